import assert from "node:assert/strict";
import test from "node:test";

import { Film, rateFor } from "../../didactor/static/js/film.js";

test("a film that is level runs at the pace of what is heard; behind it a little faster, ahead a little slower", () => {
  assert.equal(rateFor(1, 0.01), 1);
  assert.equal(rateFor(0.5, -0.01), 0.5);
  assert.equal(rateFor(1, 0.05), 1.1);
  assert.equal(rateFor(1, -0.05), 0.9);
});

test("it never runs away, and never stands", () => {
  assert.equal(rateFor(1, 5), 1.26);
  assert.equal(rateFor(8, 5), 4);
  assert.equal(rateFor(0.01, -5), 0.1);
});

test("at rest it shows the very picture, and is put there only when it is another one", () => {
  const video = { dataset: {}, currentTime: 2.0, pause() {} };
  const box = { hidden: true, querySelector: (name) => (name === "video" ? video : { addEventListener() {} }) };
  const film = new Film(box);
  film.show({ film: "/film", laid: [[0, 0.5], [1, 1.5]] });
  film.stand(1.505);
  assert.equal(video.currentTime, 2.0);
  film.stand(1.54);
  assert.ok(Math.abs(video.currentTime - 2.04) < 1e-9);
});
