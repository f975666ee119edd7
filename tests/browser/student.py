"""A student in the browser's place of a microphone: it hears the count-off of every attempt and plays what it was given, in time."""

from __future__ import annotations

import base64
import json
from collections.abc import Mapping, Sequence

import numpy as np

from didactor.core.instruments import BY_SLUG
from didactor.core.score.expected import Expectation
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate, wav_bytes

#: Put into the page before its own scripts. ``PLAYS`` are WAV files in base64 by the name of the stone, with the seconds at which the music
#: begins and ends in each; of several the first is played first, the last one again and again.
SCRIPT = """
(() => {
  const plays = PLAYS;
  const used = {}, buffers = new Map();
  let context = null, out = null;
  const bytes = (text) => Uint8Array.from(atob(text), (c) => c.charCodeAt(0)).buffer;
  navigator.mediaDevices.getUserMedia = async () => {
    context = context ?? new AudioContext();
    await context.resume();
    for (const play of Object.values(plays).flat()) {
      if (!buffers.has(play)) buffers.set(play, await context.decodeAudioData(bytes(play.wav)));
    }
    out = context.createMediaStreamDestination();
    return out.stream;
  };
  window.attempts = [];
  document.addEventListener("recording", ({ detail }) => {
    const list = plays[detail.stone] ?? [];
    const number = used[detail.stone] = (used[detail.stone] ?? 0) + 1;
    const play = list[Math.min(number, list.length) - 1];
    window.attempts.push(detail.stone);
    if (!play) return;
    const at = context.currentTime + detail.inS - play.begins;
    const source = context.createBufferSource();
    source.buffer = buffers.get(play);
    source.connect(out);
    source.start(Math.max(context.currentTime, at), Math.max(0, context.currentTime - at));
    window.lastNoteEnds = performance.now() + 1000 * (at + play.ends - context.currentTime);
  });
})();
"""


def playing(music: Expectation, instrument: str, tempo_qpm: float, *faults: dict, seed: int = 3, manner: str = "play") -> dict[str, object]:
    """What the student plays in one attempt: a WAV, when the first bar begins in it, and when the last note ends."""
    take = simulate(music, BY_SLUG[instrument], tempo_qpm, faults=list(faults), source="timgm", room="bedroom", seed=seed, manner=manner)
    quarter_s = 60 / tempo_qpm
    begins = take.truth["notes"][0]["onset_s"] - music.notes[0].onset_quarters * quarter_s
    last = max(n.onset_quarters + n.duration_quarters for n in music.notes)
    sound = np.concatenate([take.samples, np.zeros(SYNTH_RATE_HZ, dtype=np.float32)]).astype(np.float32)
    return {
        "wav": base64.b64encode(wav_bytes(sound, SYNTH_RATE_HZ)).decode(),
        "begins": begins,
        "ends": begins + last * quarter_s,
    }


def student_script(plays: Mapping[str, Sequence[dict[str, object]]]) -> str:
    """By the name of the stone: what is played at it, one after the other."""
    return SCRIPT.replace("PLAYS", json.dumps(plays))
