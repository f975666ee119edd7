// Sends a recording in pieces; after a break it goes on where it stopped. Resolves with the number of the new take, once the server has
// said that it has the very same bytes.

import { worded } from "./words.js";
// Under this name lies how late this device records what it plays, seconds, where a sound check has measured it.
export const LATE = "didactor late";
const LARGEST_COMPARED = 256 * 1024 * 1024;

// `key` names the recording: without it a new take of the same size would go on with the unfinished upload of another one.
export function send(file, { url, task, key, name, step = "", tempo = "", backing = "", clicks = [], onProgress }) {
  return new Promise((resolve, reject) => {
    const upload = new window.tus.Upload(file, {
      endpoint: url,
      chunkSize: 512 * 1024,
      fingerprint: async () => `didactor ${key}`,
      retryDelays: [0, 1000, 3000, 5000, 10000, 20000],
      removeFingerprintOnSuccess: true,
      metadata: { filename: name, task: String(task), step, tempo, backing, clicks: clicks.map((time) => time.toFixed(3)).join(" "), late: globalThis.localStorage?.getItem(LATE) ?? "" },
      headers: { "X-CSRFToken": JSON.parse(document.body.getAttribute("hx-headers"))["X-CSRFToken"] },
      onShouldRetry: (error) => {
        const status = error.originalResponse ? error.originalResponse.getStatus() : 0;
        return status === 0 || (status >= 500 && status !== 507) || status === 409;
      },
      onError: (error) => {
        const body = error.originalResponse && (error.originalResponse.getStatus() < 500 || error.originalResponse.getStatus() === 507) ? error.originalResponse.getBody() : "";
        reject(new Error(body || worded("The connection is lost. The recording is still here: send it again.")));
      },
      onProgress: (sent, total) => onProgress(total ? sent / total : 0),
      onAfterResponse: (request, response) => {
        const result = response.getHeader("Upload-Result");
        if (result) upload.result = JSON.parse(result);
      },
      onSuccess: async () => {
        const { take, sha256 = "" } = upload.result ?? {};
        if (await isSame(file, sha256)) resolve(take);
        else reject(new Error(worded("What arrived is not what was recorded. The recording is still here: send it again.")));
      },
    });
    upload.findPreviousUploads().then((previous) => {
      if (previous.length) upload.resumeFromPreviousUpload(previous[0]);
      upload.start();
    });
  });
}

// Whether a file has this SHA-256, in hexadecimal. What cannot be compared (a page without https, a very large film) is believed.
async function isSame(file, sha256) {
  if (!sha256 || !globalThis.crypto?.subtle || file.size > LARGEST_COMPARED) return true;
  const digest = new Uint8Array(await crypto.subtle.digest("SHA-256", await file.arrayBuffer()));
  return [...digest].map((byte) => byte.toString(16).padStart(2, "0")).join("") === sha256;
}
