// The take's player: plays, follows the notes on the score, plays one note, one bar or one place, loops bars, slows down.

import { actionOf, typing } from "./keys.js";
import { Clicks } from "./clicks.js";
import { Playhead, barSpan, clock, noteAt, wavePath } from "./timeline.js";
import { worded } from "./words.js";

let box = null;
// Films are stepped through by this much: one picture of twenty-five.
const PICTURE_S = 0.04;

function start() {
  const data = JSON.parse(document.getElementById("player-data").textContent);
  const audio = document.querySelector("[data-take-sound]");
  const find = (act) => box.querySelector(`[data-act="${act}"]`);
  const wave = box.querySelector("[data-wave]");
  const head = new Playhead(data.delay);
  let shown = null;
  // Most takes have no picture: what shows one is fetched only then.
  const films = [];
  if (data.films.length) {
    import("./film.js").then(({ Film }) => {
      box.querySelectorAll("[data-film]").forEach((figure, i) => {
        const film = new Film(figure);
        film.show({ film: data.films[i].url, laid: data.films[i].places });
        films.push(film);
      });
    });
  }
  box.hidden = false;
  audio.preservesPitch = true;
  drawWave(wave, data);

  // Times of the analysis are of the original recording.
  const seek = (time) => (audio.currentTime = head.inFile(time));
  const now = () => head.inTake(audio.currentTime);
  const clicks = find("click") && new Clicks(audio, data.clicks, now);
  const play = (from, to) => {
    head.until = to ?? null;
    if (from !== undefined && from !== null) seek(from);
    audio.play();
  };
  const showLoop = () => {
    const loop = head.loop;
    find("loop").hidden = !loop;
    find("loop").setAttribute("aria-pressed", String(Boolean(loop)));
    box.querySelector("[data-loop]").textContent = loop ? (loop.first === loop.last ? worded("bar {first}", loop) : worded("bars {first}–{last}", loop)) : "";
    document.querySelectorAll("svg.score").forEach((svg) => {
      const rects = [...svg.querySelectorAll("rect.bar")];
      const numbers = rects.map((r) => r.dataset.bar);
      const a = loop ? numbers.indexOf(loop.first) : -1;
      const b = loop ? numbers.lastIndexOf(loop.last) : -2;
      rects.forEach((rect, i) => rect.classList.toggle("looped", i >= a && i <= b && a >= 0));
    });
  };
  const playBar = (number) => {
    const span = barSpan(data, number, number);
    if (span) play(span[0] - 0.08, span[1]);
  };

  const step = () => {
    const time = now();
    const due = head.due(time);
    if (due === "stop") audio.pause();
    else if (due !== null) seek(due);
    const note = audio.paused ? null : noteAt(data.notes, time);
    if (note !== shown) {
      document.querySelectorAll("g.note.sounding").forEach((g) => g.classList.remove("sounding"));
      if (note) document.querySelectorAll(`g.note[data-id="${CSS.escape(note)}"]`).forEach((g) => g.classList.add("sounding"));
      shown = note;
    }
    const line = wave.querySelector("line");
    const share = data.duration ? Math.min(1, Math.max(0, time / data.duration)) : 0;
    line.setAttribute("x1", share * 1000);
    line.setAttribute("x2", share * 1000);
    wave.setAttribute("aria-valuenow", time.toFixed(1));
    wave.setAttribute("aria-valuetext", clock(time));
    box.querySelector("[data-time]").textContent = clock(time);
    films.forEach((film) => (audio.paused ? film.stand(time) : film.follow(time)));
    if (!audio.paused) requestAnimationFrame(step);
  };
  // One picture of the film on or back, at rest.
  const picture = (way) => {
    if (!films.length) return;
    audio.pause();
    seek(Math.max(0, now() + way * PICTURE_S));
  };
  const showState = () => {
    box.querySelector("[data-icon]").setAttribute("d", audio.paused ? "M3 1.5 L14 8 L3 14.5 Z" : "M3 2 H6.5 V14 H3 Z M9.5 2 H13 V14 H9.5 Z");
    box.querySelector("[data-word]").textContent = audio.paused ? worded("Play") : worded("Pause");
    step();
  };
  audio.addEventListener("play", showState);
  audio.addEventListener("pause", showState);
  audio.addEventListener("seeked", step);

  const acts = {
    play: () => (audio.paused ? play(head.loop && now() >= head.loop.end ? head.loop.start : null) : audio.pause()),
    back: () => seek(now() - 2),
    "next-bar": () => {
      const later = data.bars.find(([, , time]) => time > now() + 0.05);
      if (later) play(later[2] - 0.03);
    },
    loop: () => {
      head.loop = null;
      showLoop();
    },
    // The bar that sounds now, again and again; once more pressed, on it goes.
    "loop-bar": () => {
      const [bar] = data.bars.findLast(([, , time]) => time <= now() + 0.05) ?? data.bars[0] ?? [];
      const span = !head.loop && bar !== undefined ? barSpan(data, bar, bar) : null;
      head.loop = span && { first: bar, last: bar, start: span[0] - 0.08, end: span[1] };
      showLoop();
      if (head.loop) play(head.loop.start);
    },
    slower: () => {
      const speed = find("speed");
      speed.selectedIndex = (speed.selectedIndex + 1) % speed.options.length;
      audio.playbackRate = Number(speed.value);
    },
    "next-click": () => {
      if (!clicks) return;
      find("click").selectedIndex = (find("click").selectedIndex + 1) % 3;
      clicks.choose(find("click").value);
    },
    "picture-back": () => picture(-1),
    "picture-on": () => picture(1),
  };
  box.addEventListener("click", (event) => {
    const act = event.target.closest("[data-act]")?.dataset.act;
    if (act in acts) acts[act]();
  });
  find("click")?.addEventListener("change", (event) => clicks.choose(event.target.value));
  find("speed").addEventListener("change", (event) => (audio.playbackRate = Number(event.target.value)));
  wave.addEventListener("click", (event) => {
    const frame = wave.getBoundingClientRect();
    seek(((event.clientX - frame.left) / frame.width) * data.duration);
  });
  wave.addEventListener("keydown", (event) => {
    const move = { ArrowLeft: -1, ArrowRight: 1, PageUp: 5, PageDown: -5 }[event.key];
    if (!move) return;
    event.preventDefault();
    seek(now() + move);
  });

  document.addEventListener("click", (event) => {
    const place = event.target.closest("[data-hear]");
    if (place) return play(Math.max(0, Number(place.dataset.hear) - 0.4), Number(place.dataset.until) + 0.3);
    const bar = event.target.closest("[data-play-bar]");
    if (bar) return playBar(bar.dataset.playBar);
    const mark = event.target.closest("[data-time]:not(.time)");
    if (mark && mark.closest("svg.score")) return play(Math.max(0, Number(mark.dataset.time) - 1.2), Number(mark.dataset.time) + 0.6);
    const pressed = event.target.closest("g.note[data-id], [data-note]");
    if (pressed && pressed.closest("svg.score")) {
      const id = pressed.dataset.id ?? pressed.dataset.note;
      const found = data.notes.find(([note, pass]) => note === id && (!pressed.dataset.pass || pass === Number(pressed.dataset.pass)));
      if (found) play(found[2] - 0.04, Math.max(found[3], found[2] + 0.25));
    }
  });
  dragLoop(data, (chosen) => {
    head.loop = chosen;
    showLoop();
    if (chosen) play(chosen.start);
  });
  document.addEventListener("keydown", (event) => {
    if (typing(event)) return;
    const act = { " ": "play", b: "back", n: "next-bar", l: "loop-bar", w: "slower", m: "next-click", ",": "picture-back", ".": "picture-on" }[actionOf(event.key)];
    // On a button the space bar presses it.
    if (!act || (event.key === " " && event.target.closest("button, a, summary, label"))) return;
    event.preventDefault();
    acts[act]();
  });
  document.querySelectorAll("svg.score").forEach((svg) => svg.classList.add("listen"));
  // It may sound already.
  if (!audio.paused) showState();
}

function drawWave(wave, data) {
  const svg = "http://www.w3.org/2000/svg";
  const path = wave.appendChild(document.createElementNS(svg, "path"));
  path.setAttribute("d", wavePath(data.peaks));
  const line = wave.appendChild(document.createElementNS(svg, "line"));
  line.setAttribute("y1", "0");
  line.setAttribute("y2", "100");
}

// Dragging over two bars or more loops them; a short press on one bar does nothing here (notes are played by a click).
function dragLoop(data, choose) {
  let from = null;
  document.addEventListener("pointerdown", (event) => {
    from = event.target.closest("rect.bar")?.dataset.bar ?? null;
    if (from !== null && event.pointerType === "mouse") event.preventDefault();
  });
  document.addEventListener("pointerup", (event) => {
    const to = event.target.closest?.("rect.bar")?.dataset.bar ?? null;
    if (from !== null && to !== null && from !== to) {
      const numbers = [...document.querySelectorAll("rect.bar")].map((r) => r.dataset.bar);
      const [first, last] = numbers.indexOf(from) < numbers.indexOf(to) ? [from, to] : [to, from];
      const span = barSpan(data, first, last);
      if (span) choose({ first, last, start: span[0] - 0.08, end: span[1] });
    }
    from = null;
  });
}

// The page may come with the player, or get it later, when a take has been heard.
function arrive() {
  const found = document.querySelector("[data-player]");
  if (!found || found === box) return;
  box = found;
  start();
}

arrive();
document.addEventListener("htmx:afterSettle", arrive);
