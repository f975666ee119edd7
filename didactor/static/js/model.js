// Plays the model of a passage; one at a time, a second touch stops it.

const audio = new Audio();
let playing = null;

function settle() {
  if (playing) playing.setAttribute("aria-pressed", "false");
  playing = null;
}

document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-model]");
  if (!button) return;
  const again = button === playing;
  audio.pause();
  settle();
  if (again) return;
  audio.src = button.dataset.model;
  audio.play();
  playing = button;
  button.setAttribute("aria-pressed", "true");
});
audio.addEventListener("ended", settle);
