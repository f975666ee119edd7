// Clicks on the audio clock: scheduled a little ahead, so that a busy page never makes one late.

const AHEAD_S = 0.12;
const TIMER_MS = 25;

export class Metronome {
  constructor(context) {
    this.context = context;
    this.timer = null;
  }

  // Calls `onBeat(number, time)` when a beat is scheduled; `count` beats, or for ever when it is null.
  start({ beatsPerMinute, at, count = null, onBeat = () => {} }) {
    this.stop();
    const period = 60 / beatsPerMinute;
    let number = 0;
    const schedule = () => {
      while (at + number * period < this.context.currentTime + AHEAD_S) {
        if (count !== null && number >= count) return this.stop();
        this.click(at + number * period, number === 0);
        onBeat(number, at + number * period);
        number += 1;
      }
    };
    this.timer = setInterval(schedule, TIMER_MS);
    schedule();
  }

  stop() {
    clearInterval(this.timer);
    this.timer = null;
  }

  click(time, first) {
    const tone = this.context.createOscillator();
    const gain = this.context.createGain();
    tone.frequency.value = first ? 1760 : 1320;
    gain.gain.setValueAtTime(0.4, time);
    gain.gain.exponentialRampToValueAtTime(0.001, time + 0.05);
    tone.connect(gain).connect(this.context.destination);
    tone.start(time);
    tone.stop(time + 0.06);
  }
}
