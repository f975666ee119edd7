// Remarks at moments of a recording: a touch on a time plays from there; a new remark takes the time at which the recording stands.

import { clock } from "./timeline.js";

const mediaOf = (element) => element.closest("figure").querySelector("audio, video");

document.addEventListener("click", (event) => {
  const moment = event.target.closest("[data-seek]");
  if (!moment) return;
  const media = mediaOf(moment);
  media.currentTime = Number(moment.dataset.seek);
  media.play();
});

document.addEventListener("focusin", (event) => {
  if (!event.target.matches("[data-moment-words]")) return;
  const at = event.target.form.querySelector("[name=at]");
  if (!at.value) at.value = clock(mediaOf(event.target).currentTime);
});
