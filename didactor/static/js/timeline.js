// Times and places of a take, apart from the page: which note sounds, how long a bar lasts, the waveform's outline.

export function clock(seconds) {
  const whole = Math.max(0, Math.floor(seconds));
  return `${Math.floor(whole / 60)}:${String(whole % 60).padStart(2, "0")}`;
}

// notes: [id, pass, onset, offset] in performed order. The note that sounds at a time, or null.
export function noteAt(notes, time) {
  let found = null;
  for (const [id, , onset, offset] of notes) if (onset <= time && time < offset + 0.02) found = id;
  return found;
}

// From the first sound of one bar to the first sound after another (first time they are played), or null.
export function barSpan(data, first, last) {
  const from = data.bars.find(([bar]) => bar === first);
  const to = data.bars.find(([bar]) => bar === last);
  if (!from || !to) return null;
  const later = data.bars.filter(([, , time]) => time > to[2]).map(([, , time]) => time);
  const end = later.length ? Math.min(...later) : data.duration;
  return [from[2], end];
}

// Peaks (0..1) to the outline of a waveform in a box of 1000 by 100.
export function wavePath(peaks) {
  if (!peaks.length) return "";
  const x = (i) => ((i / peaks.length) * 1000).toFixed(1);
  const upper = peaks.map((peak, i) => `${x(i)},${(50 - 47 * peak).toFixed(1)}`);
  const lower = peaks.map((peak, i) => `${x(i)},${(50 + 47 * peak).toFixed(1)}`).reverse();
  return `M0,50 L${upper.join(" L")} L1000,50 L${lower.join(" L")} Z`;
}

// Times of clicks on the audio clock as times in the take, which began at `startsAt`; those before it are not in it.
export function inTake(times, startsAt) {
  return startsAt === null ? [] : times.map((time) => time - startsAt).filter((time) => time > 0);
}

// When in the take an accompaniment is heard that was started at `begins` and comes out of the loudspeaker `late` seconds after.
export function heardAt(begins, late, startsAt) {
  return begins === null || startsAt === null ? null : Math.max(0, begins + late - startsAt);
}

// Where a take is played: its sound lies `delay` behind the recording's own times. Up to a place, or round and round in a loop.
export class Playhead {
  constructor(delay) {
    this.delay = delay;
    this.until = null;
    this.loop = null;
  }

  inFile(time) {
    return Math.max(0, time + this.delay);
  }

  inTake(position) {
    return position - this.delay;
  }

  // What is due at a time: "stop" once the place is over, the time to go back to at the end of a loop, or nothing.
  due(time) {
    if (this.until !== null && time >= this.until) {
      this.until = null;
      return "stop";
    }
    return this.loop && time >= this.loop.end ? this.loop.start : null;
  }
}
