"""The command ``perform``: the simulated player, a take with known faults."""

from __future__ import annotations

import argparse
from dataclasses import replace
from pathlib import Path

from didactor.cli import read_json, write_json
from didactor.core.instruments import find_instrument
from didactor.core.score.expected import Expectation
from didactor.core.sound.player.performance import STYLES
from didactor.core.sound.player.render import SOURCES
from didactor.core.sound.player.rooms import ROOMS
from didactor.core.sound.player.take import MANNERS, simulate, wav_bytes


def add_options(command: argparse.ArgumentParser) -> None:
    command.add_argument("--tempo", type=float, required=True, help="quarter notes per minute")
    command.add_argument("--faults", help="JSON list of faults; none without it")
    command.add_argument("--instrument")
    command.add_argument("--source", choices=SOURCES, default="timgm")
    command.add_argument("--room", choices=sorted(ROOMS), default="dry")
    command.add_argument(
        "--manner", choices=MANNERS, default="play", help="play the notes, clap their rhythm, strum the chord symbols, say their names"
    )
    command.add_argument("--count-off", type=int, default=0, help="audible taps before the first bar")
    command.add_argument("--degradations", help="JSON list of what happens to the sound (noise, phone, codec ...)")
    command.add_argument("--player", choices=sorted(STYLES), default="trained", help="how steady")
    command.add_argument("--seed", type=int, default=0)
    command.add_argument("--scatter-ms", type=float)
    command.add_argument("--vibrato-cents", type=float)
    command.add_argument("--audio", required=True, help="WAV to write")
    command.add_argument("--truth", required=True, help="JSON to write")


def run(options: argparse.Namespace, expectation: Expectation) -> None:
    """Render the take and write its truth. Raises ``CoreError``."""
    instrument = find_instrument(options.instrument or expectation.instrument)
    faults = read_json(options.faults, "a list of faults") if options.faults else []
    degradations = read_json(options.degradations, "a list of degradations") if options.degradations else []
    style = STYLES[options.player]
    if options.scatter_ms is not None:
        style = replace(style, scatter_ms=options.scatter_ms)
    if options.vibrato_cents is not None:
        style = replace(style, vibrato_cents=options.vibrato_cents)
    take = simulate(
        expectation,
        instrument,
        options.tempo,
        faults=faults,
        style=style,
        source=options.source,
        room=options.room,
        seed=options.seed,
        manner=options.manner,
        count_off=options.count_off,
        degradations=degradations,
    )
    Path(options.audio).write_bytes(wav_bytes(take.samples))
    write_json(options.truth, take.truth)
