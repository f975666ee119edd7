import assert from "node:assert/strict";
import { beforeEach, test } from "node:test";

import { send } from "../../didactor/static/js/upload.js";

// The uploading package, simulated: it keeps what it was told and lets the test play the server.
let made;
let previous;

class Upload {
  constructor(file, options) {
    Object.assign(this, { file, options, started: false, resumed: null });
    made = this;
  }
  async findPreviousUploads() {
    return previous;
  }
  resumeFromPreviousUpload(upload) {
    this.resumed = upload;
  }
  start() {
    this.started = true;
  }
}

const failed = (status, body = "") => ({ originalResponse: status === null ? null : { getStatus: () => status, getBody: () => body } });
const begin = async (more = {}) => {
  const progress = [];
  const options = { url: "/takes/uploads/", task: 7, key: "task-7 0b1c", name: "take.wav", onProgress: (share) => progress.push(share), ...more };
  const sent = send({ size: 10 }, options);
  await new Promise((resolve) => setImmediate(resolve));
  return { sent, progress };
};

beforeEach(() => {
  previous = [];
  globalThis.window = { tus: { Upload } };
  globalThis.document = { body: { getAttribute: () => '{"X-CSRFToken": "token"}' } };
});

test("a recording is announced with its task, its clicks to the millisecond and the form's token", async () => {
  await begin({ clicks: [0.61234, 1.2619], step: "clap", tempo: "54", backing: "12 0.65" });
  assert.deepEqual(made.options.metadata, { filename: "take.wav", task: "7", step: "clap", tempo: "54", backing: "12 0.65", clicks: "0.612 1.262", late: "" });
  assert.deepEqual(made.options.headers, { "X-CSRFToken": "token" });
  assert.equal(made.started, true);
});

test("an unfinished upload is known by the recording's own key, and goes on", async () => {
  await begin({ key: "first" });
  const first = await made.options.fingerprint({ size: 10 });
  await begin({ key: "second" });
  assert.notEqual(await made.options.fingerprint({ size: 10 }), first);
  assert.equal(made.resumed, null);
  previous = [{ uploadUrl: "/takes/uploads/1/" }, { uploadUrl: "/takes/uploads/0/" }];
  await begin({ key: "first" });
  assert.equal(made.resumed, previous[0]);
});

test("it is tried again after a broken line, but not when the server has refused or has no room", async () => {
  await begin();
  const again = (status) => made.options.onShouldRetry(failed(status));
  assert.deepEqual([null, 409, 500, 502, 503].map(again), [true, true, true, true, true]);
  assert.deepEqual([400, 403, 404, 422, 507].map(again), [false, false, false, false, false]);
});

test("the server's own words come through; without any the recording is said to be safe", async () => {
  for (const [status, body, words] of [
    [422, "All 3 takes are used.", /All 3 takes are used/],
    [507, "The server's disk is full.", /disk is full/],
    [502, "<html>Bad gateway</html>", /still here: send it again/],
    [null, "", /still here: send it again/],
  ]) {
    const { sent } = await begin();
    made.options.onError(failed(status, body));
    await assert.rejects(sent, words);
  }
});

test("it resolves with the take that the last answer names", async () => {
  const { sent, progress } = await begin();
  made.options.onProgress(5, 10);
  made.options.onProgress(0, 0);
  made.options.onAfterResponse({}, { getHeader: () => null });
  made.options.onAfterResponse({}, { getHeader: (name) => (name === "Upload-Result" ? '{"take": 41}' : null) });
  made.options.onSuccess();
  assert.equal(await sent, 41);
  assert.deepEqual(progress, [0.5, 0]);
});
