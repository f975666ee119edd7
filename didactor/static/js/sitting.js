// Sitting down to attempts: the microphone, the count-off, one attempt after the other with nothing to be touched, rest. What is played, what
// it was and what follows is the page's own; the server judges.

import { Attempt } from "./attempt.js";
import { ELSEWHERE, alone } from "./keep.js";
import { click } from "./metronome.js";
import { Tap, microphone } from "./microphone.js";
import { placeOn } from "./road.js";
import { Sounds } from "./sounds.js";
import { LATE } from "./upload.js";
import { worded } from "./words.js";

// A breath before the count-off, and so much time to take in what it was before the next one.
const BEGINS_IN_S = 0.5;
const NEXT_AFTER_S = { clean: 1.4, trial: 1.4, unsure: 2.6, fault: 3.2 };
// What was asked for at once, and where there is nothing to be counted off, is found within so long.
const FOUND_WITHIN_S = 12;

export class Sitting {
  // page: { plays() what comes next or nothing, told(result) shows what it was, goesOn() whether the next one may begin by itself, ready(plays)
  // before each one }.
  constructor({ stage, thumb, data, cursor, page }) {
    Object.assign(this, { stage, thumb, data, cursor, page });
    this.sounds = new Sounds(data.sound);
    this.context = null;
    this.tap = null;
    this.free = () => {};
    this.attempt = null;
    this.waiting = null;
    this.lock = null;
    this.taken = 0;
    const on = (name, act) => this.part(name)?.addEventListener("click", act);
    on("[data-go]", () => this.go());
    on("[data-trial]", () => this.go(true));
    on("[data-pause]", () => this.rest());
    on("[data-stop]", () => this.rest(worded("Stopped: this one does not count.")));
    on("[data-place]", () => this.hearPlace());
    window.addEventListener("pagehide", () => this.tap?.stream.getTracks().forEach((track) => track.stop()));
  }

  part(name) {
    return this.thumb.querySelector(name);
  }

  fault(text) {
    this.part("[data-fault]").textContent = text;
  }

  // Somebody plays, or is about to.
  get sits() {
    return Boolean(this.attempt || this.waiting);
  }

  async awake() {
    this.context ??= new AudioContext();
    await this.context.resume();
    return this.context;
  }

  async #open() {
    await this.awake();
    if (this.tap) return;
    const leave = await alone();
    if (!leave) throw new Error(ELSEWHERE);
    this.free = leave;
    const stream = await microphone();
    stream.getTracks().forEach((track) => (track.onended = () => this.rest(worded("The microphone was taken away."))));
    this.taken = 0;
    const rate = this.context.sampleRate;
    const own = new Tap(this.context, stream, (block) => {
      const at = own.startsAt + this.taken / rate;
      this.taken += block.length;
      this.#meter(block);
      if (this.attempt && at + block.length / rate > this.attempt.from) this.attempt.add(block);
    });
    await own.open();
    this.tap = own;
  }

  async go(trial = false) {
    const plays = this.page.plays();
    if (this.attempt || !plays) return;
    clearTimeout(this.waiting);
    this.waiting = null;
    try {
      await this.#open();
    } catch (error) {
      this.free();
      return this.fault(error.message);
    }
    this.lock ??= await navigator.wakeLock?.request("screen").catch(() => null);
    this.#begin(this.page.plays(), trial);
  }

  #begin(plays, trial) {
    this.fault("");
    this.page.ready(plays);
    const { context, data } = this;
    const counts = plays.prompt ? 0 : data.countOff;
    const quarterS = 60 / (plays.tempo * data.unit);
    const beatS = plays.beat * quarterS;
    const first = context.currentTime + BEGINS_IN_S;
    const starts = first + counts * beatS - plays.pickup * quarterS;
    // Blocks are whole: what is kept begins with the one that is being filled now.
    const from = this.tap.startsAt + this.taken / context.sampleRate;
    const late = (context.outputLatency || 0) + Number(localStorage.getItem(LATE) || 0);
    const { stone = "", remedy = null, kind = "", of = "", tempo } = plays;
    const facts = { id: crypto.randomUUID(), stone, remedy, kind, of, prompt: plays.prompt?.name ?? "", tempo, rate: context.sampleRate, start: Math.max(0, starts - from + late), trial };
    const lengthS = plays.prompt ? FOUND_WITHIN_S : plays.length * quarterS;
    const attempt = new Attempt(facts, { ...data, endS: facts.start + lengthS, title: document.title });
    this.attempt = attempt;
    attempt.from = from;
    for (let k = 0; k < counts; k += 1) click(context, first + k * beatS, k ? 0.99 : 1);
    this.thumb.toggleAttribute("data-recording", true);
    document.dispatchEvent(new CustomEvent("recording", { detail: { stone: stone || of, tempo, remedy, inS: starts - context.currentTime } }));
    const trialNow = this.part("[data-trial-now]");
    if (trialNow) trialNow.hidden = !trial;
    const step = () => {
      if (this.attempt !== attempt) return;
      const time = context.currentTime - (context.outputLatency || 0);
      const counted = Math.floor((time - first) / beatS) + 1;
      this.part("[data-beats]").textContent = counted >= 1 && counted <= counts && time < starts ? counted : "";
      const quarters = (time - starts) / quarterS;
      const place = plays.prompt ? null : placeOn(plays.road, Math.max(0, quarters));
      if (place !== null && quarters < plays.length) this.cursor.show(place);
      else this.cursor.hide();
      requestAnimationFrame(step);
    };
    step();
    attempt.result.then((told) => this.attempt === attempt && this.#over(told));
  }

  #over(told) {
    this.attempt = null;
    this.cursor.hide();
    this.thumb.toggleAttribute("data-recording", false);
    this.part("[data-beats]").textContent = "";
    if (told.refused) return this.rest(told.refused);
    if (told.lost) return this.rest(worded("There is no connection, and this device keeps nothing: this attempt is lost. Go on when there is one."));
    if (told.kept) {
      this.fault(worded("There is no connection. This attempt is kept on the device and heard later."));
      return this.#next("unsure");
    }
    this.tell(told);
    this.#next(told.attempt.outcome === "unheard" ? "unsure" : told.attempt.outcome, told.attempt.code === "nothing");
  }

  // What it was, in words, on the score, and by a small sound.
  tell(told) {
    const was = told.attempt;
    const words = { clean: was.says ? worded("Without a fault. {says}", was) : worded("Without a fault."), fault: was.says || worded("Not yet."), unsure: was.says, unheard: worded("It is being heard; it counts in a moment."), trial: was.was === "clean" ? worded("A trial run, without a fault.") : worded("A trial run. {says}", was) };
    this.page.told(told);
    this.fault(words[was.outcome]);
    this.thumb.dataset.outcome = was.outcome;
    const place = this.part("[data-place]");
    place.hidden = was.place === null;
    place.dataset.from = was.place ?? "";
    place.dataset.to = was.until ?? "";
    place.dataset.of = was.id;
    this.stage.querySelectorAll("rect.bar").forEach((rect) => rect.classList.toggle("missed-here", was.outcome === "fault" && rect.dataset.bar === was.bar));
    this.#chime(was.was);
  }

  // Two soft notes up, one low one, or one in between.
  #chime(outcome) {
    const { context } = this;
    if (!context) return;
    const notes = { clean: [660, 880], fault: [196], unsure: [392] }[outcome] ?? [392];
    notes.forEach((hz, k) => {
      const tone = context.createOscillator();
      const gain = context.createGain();
      const at = context.currentTime + 0.03 + 0.14 * k;
      tone.type = "sine";
      tone.frequency.value = hz;
      gain.gain.setValueAtTime(0, at);
      gain.gain.linearRampToValueAtTime(0.16, at + 0.02);
      gain.gain.exponentialRampToValueAtTime(0.001, at + 0.35);
      tone.connect(gain).connect(context.destination);
      tone.start(at);
      tone.stop(at + 0.4);
    });
  }

  // Nobody has to touch anything: the next one begins by itself, unless something is to be decided first.
  #next(outcome, nothing = false) {
    if (nothing || !this.part("[data-on]").checked || !this.page.plays() || !this.page.goesOn()) return this.rest();
    this.part("[data-pause]").hidden = false;
    this.part("[data-go]").hidden = true;
    this.waiting = setTimeout(() => {
      this.waiting = null;
      this.#begin(this.page.plays(), false);
    }, 1000 * (NEXT_AFTER_S[outcome] ?? 2));
  }

  async rest(words = "") {
    clearTimeout(this.waiting);
    this.waiting = null;
    const broken = this.attempt;
    this.attempt = null;
    if (broken) broken.over = true;
    this.cursor.hide();
    this.thumb.toggleAttribute("data-recording", false);
    this.part("[data-beats]").textContent = "";
    this.part("[data-pause]").hidden = true;
    this.part("[data-go]").hidden = false;
    if (words) this.fault(words);
    const ending = this.tap;
    this.tap = null;
    this.free();
    this.lock?.release();
    this.lock = null;
    await ending?.finish();
  }

  #meter(block) {
    let peak = 0;
    for (const sample of block) peak = Math.max(peak, Math.abs(sample));
    this.part("[data-level]").setAttribute("width", Math.max(0, 100 + (20 * Math.log10(Math.max(peak, 1e-4)) / 60) * 100).toFixed(1));
  }

  // How it goes: the model at its tempo, only what is played.
  async hear({ tempo, road, length }) {
    if (this.attempt) return;
    await this.rest();
    const context = await this.awake();
    try {
      const sound = await this.sounds.at(context, tempo);
      const quarterS = 60 / (tempo * this.data.unit);
      let at = context.currentTime + 0.1;
      for (const [begun, place, long, sounding = long] of road) {
        const source = context.createBufferSource();
        source.buffer = sound.buffer;
        source.connect(context.destination);
        source.start(at, sound.leadS + place * quarterS, Math.min(sounding, length - begun) * quarterS + 0.05);
        at += long * quarterS;
      }
    } catch (error) {
      this.fault(error.message);
    }
  }

  // The place at which it went wrong, out of the attempt itself.
  hearPlace() {
    const { from, to, of } = this.part("[data-place]").dataset;
    const audio = this.part("[data-again]");
    audio.src = `${this.data.piece.replace("00000000-0000-0000-0000-000000000000", of)}sound/#t=${Math.max(0, Number(from) - 0.6)},${Number(to) + 0.4}`;
    audio.play().catch(() => this.fault(worded("It can be heard in a moment; try again.")));
  }
}
