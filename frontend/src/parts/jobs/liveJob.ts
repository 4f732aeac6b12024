/** A record's job, replaced by the newer one that the event stream brought. */
import type { Job } from "@/api/client";
import { useProject } from "@/state/project";

export function useLiveJob(): (job: Job) => Job {
  const store = useProject();
  return (job) => store.jobs.get(job.id) ?? job;
}
