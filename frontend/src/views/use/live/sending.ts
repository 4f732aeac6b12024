/** The camera of the computer that the page is open on: its frames, sent one after the other. */
import { ApiError } from "@/api/client";

/** In place of a camera's address. */
export const THIS_COMPUTER = "this computer";

/** Pixels of the longer side of a frame that is sent, at most. */
const LONGEST = 1280;
/** Milliseconds between two frames, at least. */
const PAUSE = 50;

export interface Sender {
  stop: () => void;
}

/** Begin to send; `sent` is told of every frame, `failed` of what ended it. Rejects where there is no camera. */
export async function sendCamera(liveId: number, sent: () => void, failed: (error: unknown) => void): Promise<Sender> {
  // Pages that are not from this machine have no camera unless they came over HTTPS.
  if (!navigator.mediaDevices)
    throw new Error("This browser gives a page its camera only over HTTPS, or where the page is at 127.0.0.1");
  const stream = await navigator.mediaDevices.getUserMedia({ video: { width: { ideal: LONGEST } }, audio: false });
  const video = document.createElement("video");
  video.muted = true;
  video.srcObject = stream;
  const canvas = document.createElement("canvas");
  let going = true;
  const stop = (): void => {
    going = false;
    for (const track of stream.getTracks()) track.stop();
  };
  await video.play();

  async function one(): Promise<void> {
    const scale = Math.min(1, LONGEST / Math.max(video.videoWidth, video.videoHeight));
    [canvas.width, canvas.height] = [Math.round(video.videoWidth * scale), Math.round(video.videoHeight * scale)];
    canvas.getContext("2d")!.drawImage(video, 0, 0, canvas.width, canvas.height);
    const frame = await new Promise<Blob | null>((give) => canvas.toBlob(give, "image/jpeg", 0.85));
    if (!frame || !going) return;
    const answer = await fetch(`/api/v1/live/${liveId}/frame`, {
      method: "POST",
      headers: { "Content-Type": "image/jpeg" },
      body: frame,
    });
    if (!answer.ok) throw new ApiError(answer.status, ((await answer.json()) as { detail: string }).detail);
    sent();
  }
  void (async () => {
    while (going) {
      const begun = performance.now();
      try {
        await one();
      } catch (error) {
        if (going) failed(error);
        stop();
      }
      await new Promise((wait) => setTimeout(wait, Math.max(5, PAUSE - (performance.now() - begun))));
    }
  })();
  return { stop };
}
