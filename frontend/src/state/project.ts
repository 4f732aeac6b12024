/** The open project: its figures, its classes, its jobs as they move. */
import { defineStore } from "pinia";
import { computed, ref } from "vue";

import {
  api,
  type Attribute,
  type Job,
  type JobKind,
  type Labels,
  type ObjectClass,
  type Outcome,
  type Project,
  take,
} from "@/api/client";
import { say, sayWithUndo } from "@/state/notes";

type EpochListener = (event: { run_id: number; epoch: number }) => void;
type JobListener = (job: Job) => void;

const ENDED = new Set(["done", "stopped", "failed", "interrupted"]);

export const useProject = defineStore("project", () => {
  const project = ref<Project | null>(null);
  /** With the retired ones, which come last. */
  const allClasses = ref<ObjectClass[]>([]);
  const attributes = ref<Attribute[]>([]);
  const jobs = ref(new Map<number, Job>());
  const lost = ref(false);
  const epochListeners = new Set<EpochListener>();
  const jobListeners = new Set<JobListener>();
  let source: EventSource | null = null;

  const id = computed(() => project.value?.id ?? 0);
  const openJobs = computed(() => [...jobs.value.values()].filter((job) => !ENDED.has(job.state)));
  const classes = computed(() => allClasses.value.filter((each) => !each.retired));
  const classById = computed(() => new Map(allClasses.value.map((each) => [each.id, each])));

  async function open(projectId: number): Promise<void> {
    if (project.value?.id === projectId) return;
    close();
    // No view is there before its classes are: who draws at once draws one of them.
    const [found] = await Promise.all([loadProject(projectId), loadClasses(projectId), loadAttributes(projectId)]);
    project.value = found;
    follow(projectId);
  }

  async function refresh(): Promise<void> {
    if (!project.value) return;
    project.value = await loadProject(id.value);
  }

  function loadProject(projectId: number): Promise<Project> {
    return take(api.GET("/api/v1/projects/{project_id}", { params: { path: { project_id: projectId } } }));
  }

  async function loadClasses(projectId = id.value): Promise<void> {
    const found = await take(
      api.GET("/api/v1/projects/{project_id}/classes", { params: { path: { project_id: projectId } } }),
    );
    allClasses.value = found.classes;
  }

  async function loadAttributes(projectId = id.value): Promise<void> {
    const found = await take(
      api.GET("/api/v1/projects/{project_id}/attributes", { params: { path: { project_id: projectId } } }),
    );
    attributes.value = found.attributes;
  }

  /** Undo a change to many pictures or classes, and say what came of it. */
  async function undoChange(changeId: number): Promise<void> {
    const path = { project_id: id.value, change_id: changeId };
    const undone = await madeBy(
      "undo_change",
      take(api.POST("/api/v1/projects/{project_id}/changes/{change_id}/undo", { params: { path } })),
    );
    await Promise.all([loadClasses(), loadAttributes(), refresh()]);
    const kept = undone.kept ? `; ${undone.kept} changed since and left as they are` : "";
    say(`Undone: ${undone.title}${kept}`);
  }

  /** The job once it has ended. */
  async function ended(jobId: number): Promise<Job> {
    return new Promise((resolve) => {
      const look = (job: Job | undefined): boolean => {
        if (job?.id !== jobId || !ENDED.has(job.state)) return false;
        stopLooking();
        window.clearInterval(asking);
        resolve(job);
        return true;
      };
      // The events of a tab that nobody looks at are not followed, so it asks now and then.
      const asking = window.setInterval(() => {
        const found = take(api.GET("/api/v1/jobs/{job_id}", { params: { path: { job_id: jobId } } }));
        found.then(look).catch(() => undefined);
      }, 4000);
      const stopLooking = onJob((job) => look(job));
      look(jobs.value.get(jobId));
    });
  }

  /** What a job comes to: it is started, awaited, and its outcome told; an error has the server's words. */
  async function outcomeOf<K extends JobKind>(
    kind: K,
    starting: Promise<{ job: Job }>,
    started: (job: Job) => void = () => undefined,
  ): Promise<{ outcome: Outcome<K>; job: Job }> {
    const { job } = await starting;
    started(job);
    const last = await ended(job.id);
    const outcome = last.outcome[kind];
    if (last.state !== "done" || !outcome) throw new Error(last.message || `${last.title}: ${last.state}`);
    return { outcome: outcome as Outcome<K>, job: last };
  }

  /** What a change came to that was made at once, or where it is a large one by a job. */
  async function madeBy<K extends JobKind>(kind: K, asking: Promise<Outcome<K> | { job: Job }>): Promise<Outcome<K>> {
    const answer = await asking;
    return "job" in answer ? (await outcomeOf(kind, Promise.resolve(answer))).outcome : answer;
  }

  /** Say what was changed and offer the way back; `after` runs once it was gone. */
  function sayChange(words: string, changeId: number | null | undefined, after: () => unknown = () => undefined): void {
    if (!changeId) say(words);
    else
      sayWithUndo(words, async () => {
        await undoChange(changeId);
        await after();
      });
  }

  /** Keep the rail's figures and the counts of classes right after a save, without asking for all anew. */
  function counted(before: Labels, after: Labels): void {
    const stages = project.value?.stages;
    if (stages) {
      stages.boxes += after.boxes.length - before.boxes.length;
      const done = (labels: Labels): number => Number(labels.state === "done" || labels.state === "empty");
      const begun = (labels: Labels): number => Number(labels.state === "in_progress");
      stages.labelled += done(after) - done(before);
      stages.in_progress += begun(after) - begun(before);
    }
    const change = new Map<number, number>();
    for (const box of after.boxes) change.set(box.class_id, (change.get(box.class_id) ?? 0) + 1);
    for (const box of before.boxes) change.set(box.class_id, (change.get(box.class_id) ?? 0) - 1);
    for (const each of allClasses.value) each.boxes += change.get(each.id) ?? 0;
  }

  function follow(projectId: number): void {
    source = new EventSource(`/api/v1/projects/${projectId}/events`);
    source.onopen = () => (lost.value = false);
    // The stream ends by itself now and then; only a failed reconnection means a lost server.
    source.onerror = () => {
      const failed = source;
      setTimeout(() => {
        if (failed === source && failed?.readyState !== EventSource.OPEN) lost.value = true;
      }, 3000);
    };
    source.addEventListener("job", (event) => {
      const job = JSON.parse(event.data) as Job;
      const before = jobs.value.get(job.id);
      jobs.value.set(job.id, job);
      if (before && before.state !== job.state) void refresh();
      for (const listener of jobListeners) listener(job);
    });
    source.addEventListener("epoch", (event) => {
      void refresh();
      for (const listener of epochListeners) listener(JSON.parse(event.data));
    });
  }

  // A browser opens only a few connections to one server: tabs that nobody looks at give theirs back.
  document.addEventListener("visibilitychange", () => {
    if (document.hidden) {
      source?.close();
      source = null;
    } else if (project.value && !source) {
      follow(project.value.id);
      void refresh();
    }
  });

  function close(): void {
    source?.close();
    source = null;
    project.value = null;
    allClasses.value = [];
    attributes.value = [];
    jobs.value = new Map();
  }

  async function stop(jobId: number): Promise<void> {
    await take(api.POST("/api/v1/jobs/{job_id}/stop", { params: { path: { job_id: jobId } } }));
  }

  function onEpoch(listener: EpochListener): () => void {
    epochListeners.add(listener);
    return () => epochListeners.delete(listener);
  }

  function onJob(listener: JobListener): () => void {
    jobListeners.add(listener);
    return () => jobListeners.delete(listener);
  }

  return {
    project,
    classes,
    allClasses,
    attributes,
    jobs,
    lost,
    id,
    openJobs,
    classById,
    open,
    refresh,
    loadClasses,
    loadAttributes,
    undoChange,
    close,
    stop,
    ended,
    outcomeOf,
    madeBy,
    sayChange,
    counted,
    onEpoch,
    onJob,
  };
});
