/** The server's address, typed by its OpenAPI document. */
import createClient from "openapi-fetch";

import type { components, paths } from "@/api/schema";

type Schemas = components["schemas"];
export type Project = Schemas["ProjectOut"];
export type Making = Schemas["MakingOut"];
export type ObjectClass = Schemas["ClassOut"];
export type Picture = Schemas["PictureOut"];
export type PictureState = Picture["state"];
export type Part = NonNullable<Picture["part"]>;
export type Labels = Schemas["LabelsOut"];
export type Job = Schemas["JobOut"];
export type JobKind = Job["kind"];
/** What a kind of job comes to. */
export type Outcome<K extends JobKind> = NonNullable<Schemas["JobOutcomes"][K]>;
export type DrawnBox = Schemas["BoxOut"];
export type Run = Schemas["RunOut"];
export type Epoch = Schemas["EpochOut"];
export type Hint = Schemas["HintOut"];
export type RunGroup = Schemas["GroupOut"];
export type Watch = Schemas["WatchOut"];
export type WatchedEpoch = Schemas["WatchedEpoch"];
export type Study = Schemas["StudyOut"];
export type Plan = Schemas["PlanOut"];
export type Evaluation = Schemas["EvaluationOut"];
export type Confusion = Schemas["ConfusionOut"];
export type ClassCounts = Schemas["ClassCounts"];
export type ConfusedBox = Schemas["ConfusedBox"];
export type ClassOperating = Schemas["ClassOperating"];
export type PrecisionRecall = Schemas["PrecisionRecall"];
export type Calibration = Schemas["CalibrationOut"];
export type MistakeKind = Schemas["MistakeKind"];
export type MistakenBox = Schemas["MistakenBox"];
export type Doubt = Schemas["DoubtOut"];
export type Beside = Schemas["BesideOut"];
export type Ensemble = Schemas["EnsembleOut"];
export type Anatomy = Schemas["AnatomyOut"];
export type Candidate = Schemas["CandidateOut"];
export type Fates = Schemas["FatesOut"];
export type Arithmetic = Schemas["ArithmeticOut"];
export type FusedBox = Schemas["FusedBox"];
export type WallRow = Schemas["WallRow"];
export type MarkedPicture = Schemas["MarkedPicture"];
export type MarkedBox = Schemas["MarkedBox"];
export type Detection = Schemas["DetectionOut"];
/** What is missed or false is told only where that was asked. */
export type FoundPicture = Omit<Schemas["FoundPicture"], "missed" | "false"> &
  Partial<Pick<Schemas["FoundPicture"], "missed" | "false">>;
export type Timeline = Schemas["Timeline"];
export type ClipSpan = Schemas["ClipSpan"];
export type Shape = Schemas["Shape"];
export type Proposal = Schemas["ProposalOut"];
export type Proposed = Schemas["ProposedOut"];
export type FoundBox = Schemas["FoundBox"];
export type Right = Schemas["Right"];
export type Counted = Schemas["Counted"];
export type Address = Schemas["AddressOut"];
export type DayOfCalls = Schemas["DayOfCalls"];
export type KeptPicture = Schemas["KeptOut"];
export type MachineSeen = Schemas["MachineSeen"];
export type Live = Schemas["LiveOut"];
export type LiveNow = Schemas["LiveNow"];
export type Clip = Omit<Schemas["ClipRow"], "objects" | "proposed" | "pictures">;
export type ClipChoice = Schemas["ClipChoiceIn"];
export type ClipRow = Schemas["ClipRow"];
export type ClipDetail = Schemas["ClipDetail"];
/** One object of a clip, as the server keeps it. */
export type ClipTrack = Schemas["TrackOut"];
export type TrackList = Schemas["TrackList"];
export type TimeOut = Schemas["TimeOut"];
export type SetBox = Schemas["SetBoxOut"];
export type CarriedBox = Schemas["CarriedBox"];
export type FileOutcome = Schemas["FileTaken"];
export type Attribute = Schemas["AttributeOut"];
export type Snapshot = Schemas["SnapshotOut"];
export type SnapshotDetail = Schemas["SnapshotDetail"];
export type Comparison = Schemas["SnapshotsCompared"];
export type Figures = Schemas["FiguresOut"];
export type Crop = Schemas["Crop"];
export type Finding = Schemas["FindingOut"];
export type Findings = Schemas["FindingsOut"];
export type Format = Schemas["FormatOut"];
export type Change = Schemas["ChangeOut"];
export type ServerFolder = Schemas["FolderOut"];
export type Columns = Schemas["ColumnsIn"];
export type Split = Schemas["SplitOut"];
export type White = Schemas["WhiteOut"];

/** Where a picture's file or thumbnail is; with another white one of more than 8 bits looks otherwise. */
export function pictureUrl(
  picture: { id: number; white?: number | null },
  what: "file" | "thumbnail" = "file",
): string {
  return `/api/v1/pictures/${picture.id}/${what}${typeof picture.white !== "number" ? "" : `?white=${picture.white}`}`;
}

export const api = createClient<paths>({ baseUrl: "/" });

/** What the server said was wrong. Status 0 means that it could not be reached. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly current: unknown = null,
  ) {
    super(message);
  }
}

interface Reply<T> {
  data?: T;
  error?: unknown;
  response: Response;
}

/** The data of a reply, or an `ApiError` with the server's own words. */
export async function take<T>(reply: Promise<Reply<T>>): Promise<T> {
  let answer: Reply<T>;
  try {
    answer = await reply;
  } catch {
    throw new ApiError(0, "The server cannot be reached");
  }
  if (answer.response.ok) return answer.data as T;
  // The session was ended, or the server has begun anew; what is not saved waits in this browser.
  if (answer.response.status === 401) window.location.assign("/sign-in");
  throw problem(answer.response.status, answer.error);
}

/** Send files as a form, with progress from 0 to 1. */
export function sendFiles<T>(
  path: string,
  files: readonly File[],
  fields: Record<string, string> = {},
  onProgress: (share: number) => void = () => {},
): Promise<T> {
  const form = new FormData();
  for (const [name, value] of Object.entries(fields)) form.append(name, value);
  for (const file of files) form.append("files", file, file.webkitRelativePath || file.name);
  return sendForm(path, form, onProgress);
}

/** Send a form with files of several kinds, with progress from 0 to 1. */
export function sendForm<T>(path: string, form: FormData, onProgress: (share: number) => void = () => {}): Promise<T> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", path);
    request.responseType = "json";
    request.upload.onprogress = (event) => onProgress(event.total ? event.loaded / event.total : 0);
    request.onerror = () => reject(new ApiError(0, "The server cannot be reached"));
    request.onload = () =>
      request.status < 300 ? resolve(request.response as T) : reject(problem(request.status, request.response));
    request.send(form);
  });
}

/** Let the browser save a file that the server has. */
export function fetchFile(address: string): void {
  const link = document.createElement("a");
  link.href = address;
  link.download = "";
  link.click();
}

function problem(status: number, body: unknown): ApiError {
  const found = (body ?? {}) as { detail?: string; title?: string; current?: unknown };
  return new ApiError(status, found.detail ?? found.title ?? `The server answered ${status}`, found.current);
}
