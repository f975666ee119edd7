// Clicks on the audio clock: scheduled a little ahead, so that a busy page never makes one late.

const AHEAD_S = 0.12;
const TIMER_MS = 25;

// One click at a time of the audio clock; `strength` 0..1, the strongest ones are higher.
export function click(context, time, strength = 1, out = context.destination) {
  const tone = context.createOscillator();
  const gain = context.createGain();
  tone.frequency.value = strength >= 1 ? 1760 : 1320;
  gain.gain.setValueAtTime(0.4 * Math.max(strength, 0.01), time);
  gain.gain.exponentialRampToValueAtTime(0.001, time + 0.05);
  tone.connect(gain).connect(out);
  tone.start(time);
  tone.stop(time + 0.06);
}

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
    click(this.context, time, first ? 1 : 0.99);
  }
}
