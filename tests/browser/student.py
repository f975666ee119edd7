"""A student in the browser's place of a microphone: it hears the count-off of every attempt and plays what it was given, in time."""

from __future__ import annotations

import base64
import json
from collections.abc import Sequence

import numpy as np

from didactor.core.instruments import BY_SLUG
from didactor.core.score.expected import Expectation
from didactor.core.sound.player.rooms import SYNTH_RATE_HZ
from didactor.core.sound.player.take import simulate, wav_bytes

#: Put into the page before its own scripts. `plays` are WAV files in base64 with the seconds at which the music begins in each; one after
#: the other is played, the last one again and again. `after` is how long after the page's own sign the music is due.
SCRIPT = """
(() => {
  const plays = PLAYS;
  let number = 0, context = null, out = null;
  const buffers = [];
  const bytes = (text) => Uint8Array.from(atob(text), (c) => c.charCodeAt(0)).buffer;
  navigator.mediaDevices.getUserMedia = async () => {
    context = context ?? new AudioContext();
    await context.resume();
    while (buffers.length < plays.length) buffers.push(await context.decodeAudioData(bytes(plays[buffers.length].wav)));
    out = context.createMediaStreamDestination();
    return out.stream;
  };
  window.attemptsBegun = 0;
  document.addEventListener("recording", () => {
    const index = Math.min(number, plays.length - 1);
    number += 1;
    window.attemptsBegun = number;
    const play = plays[index];
    const data = JSON.parse(document.getElementById("practice-data").textContent);
    const tempo = Number(document.querySelector("[data-tempo]").textContent.replace(/[^0-9]/g, ""));
    const beat = data.bars[0][4];
    const at = context.currentTime + 0.5 + (data.countOff * beat - play.pickup) * 60 / (tempo * data.unit) - play.begins;
    const source = context.createBufferSource();
    source.buffer = buffers[index];
    source.connect(out);
    source.start(Math.max(context.currentTime, at), Math.max(0, context.currentTime - at));
    window.lastNoteEnds = performance.now() + 1000 * (at + play.ends - context.currentTime);
  });
})();
"""


def playing(music: Expectation, instrument: str, tempo_qpm: float, *faults: dict, seed: int = 3) -> dict[str, object]:
    """What the student plays in one attempt: a WAV, when the first bar begins in it, and when the last note ends."""
    take = simulate(music, BY_SLUG[instrument], tempo_qpm, faults=list(faults), source="timgm", room="bedroom", seed=seed)
    quarter_s = 60 / tempo_qpm
    begins = take.truth["notes"][0]["onset_s"] - music.notes[0].onset_quarters * quarter_s
    last = max(n.onset_quarters + n.duration_quarters for n in music.notes)
    sound = np.concatenate([take.samples, np.zeros(SYNTH_RATE_HZ, dtype=np.float32)]).astype(np.float32)
    return {
        "wav": base64.b64encode(wav_bytes(sound, SYNTH_RATE_HZ)).decode(),
        "begins": begins,
        "ends": begins + last * quarter_s,
        "pickup": music.pickup_quarters,
    }


def student_script(plays: Sequence[dict[str, object]]) -> str:
    return SCRIPT.replace("PLAYS", json.dumps(list(plays)))
