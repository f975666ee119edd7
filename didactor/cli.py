"""The command line: analyse, expect, perform. No database is needed.

Exit status: 0 done (an unusable recording is a result too), 2 a file or an argument that cannot be used, with one line on
standard error that says what is wrong.
"""

from __future__ import annotations

import argparse
import json
import re
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

from didactor.core.analyse import analyse
from didactor.core.errors import CoreError, PassageError, ScoreError
from didactor.core.formats.analysis_json import result_of
from didactor.core.formats.annotated_score import annotate_musicxml
from didactor.core.formats.performance_midi import performance_to_midi
from didactor.core.formats.result import with_names_of_schema_1
from didactor.core.judging.stages import STAGES
from didactor.core.judging.targets import Targets
from didactor.core.score.expected import Expectation, expect, expectation_to_json, without_notation
from didactor.core.score.model import Score
from didactor.core.score.open import prepare_isolated
from didactor.core.score.read.musicxml import read
from didactor.core.sound.backing import Backing
from didactor.core.sound.recording import open_recording
from didactor.core.steps import all_ears, proposed_ear


def main(arguments: list[str] | None = None) -> int:
    """Run one command; returns the exit status."""
    arguments = sys.argv[1:] if arguments is None else arguments
    options = _parser(arguments).parse_args(arguments)
    try:
        options.run(options)
    except CoreError as error:
        print(f"didactor: {error.message}", file=sys.stderr)
        return 2
    except OSError as error:
        print(f"didactor: {error.filename}: {error.strerror}.", file=sys.stderr)
        return 2
    return 0


def _parser(arguments: list[str]) -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="didactor", description="Hear a recording against its score.")
    commands = parser.add_subparsers(required=True)

    passage = argparse.ArgumentParser(add_help=False)
    passage.add_argument("--score", help="MusicXML file (.musicxml, .xml, .mxl); analyse can do without one, given --metre and --bars")
    passage.add_argument("--part", type=int, default=1, help="which part, counted from 1")
    passage.add_argument("--bars", help="printed bar numbers, e.g. 5-12; the anacrusis is 0; all bars without it")
    passage.add_argument("--order", help='order of playing, e.g. "1-4 1-4 5-8"; the repeats in the bars without it')

    command = commands.add_parser("analyse", parents=[passage], help="hear a recording and write the result as JSON")
    command.add_argument("--audio", required=True)
    command.add_argument("--tempo", type=float, help="quarter notes per minute")
    command.add_argument("--stage", choices=[s.slug for s in STAGES])
    command.add_argument("--band", type=float, help="allowed deviation of the tempo, per cent")
    command.add_argument("--count-off", type=int)
    command.add_argument("--instrument", help="what is playing; the score's own name without it")
    command.add_argument(
        "--step",
        choices=[ear.slug for ear in all_ears()],
        help=f"what is done with the passage ({', '.join(f'{ear.slug}: {ear.title}' for ear in all_ears())}); what fits it without it",
    )
    command.add_argument("--metre", help="where there is no notation: the metre, e.g. 6/8, with --bars and --tempo")
    command.add_argument("--backing", help="a sound file that was played along while recording; its bleed is taken out")
    command.add_argument("--backing-at", type=float, default=0.0, help="when in the recording it began, seconds")
    command.add_argument("--targets", help="the whole assignment's targets as a JSON file; the options above go first")
    command.add_argument("--json", required=True, help="where to write; - for standard output")
    command.add_argument("--midi", help="also write what was heard as a MIDI file")
    command.add_argument("--annotated", help="also write the score with the findings in it, as MusicXML")
    command.set_defaults(run=_analyse)

    command = commands.add_parser("expect", parents=[passage], help="write what is expected, in performed order")
    command.add_argument("--json", required=True)
    command.set_defaults(run=_expect)

    command = commands.add_parser("perform", parents=[passage], help="the simulated player: a take with known faults")
    if "perform" in arguments[:1]:
        # The player loads what only it needs, a second's worth: whoever has a take heard does not wait for that.
        from didactor.cli_perform import add_options, run

        add_options(command)
        command.set_defaults(run=lambda options: run(options, _expectation(options)[1]))
    return parser


def _read_score(path: str) -> Score:
    with Path(path).open("rb") as source:
        _, prepared = prepare_isolated(source)
    return read(prepared)


def _expectation(options: argparse.Namespace, bars: str | None = None, order: str | None = None) -> tuple[Score, Expectation]:
    if options.score is None:
        raise PassageError("passage.no_score", "Give the score with --score.")
    score = _read_score(options.score)
    if not 1 <= options.part <= len(score.parts):
        raise ScoreError("score.no_such_part", f"There is no part {options.part}: the score has {len(score.parts)}.")
    return score, expect(score.parts[options.part - 1], options.bars or bars, options.order or order)


def read_json(path: str, what: str) -> Any:
    try:
        return json.loads(Path(path).read_text())
    except (json.JSONDecodeError, UnicodeDecodeError) as error:
        raise PassageError("json.bad", f"{path} is not {what} in JSON.") from error


def write_json(path: str, data: Any) -> None:
    text = json.dumps(data, indent=1) + "\n"
    if path == "-":
        sys.stdout.write(text)
    else:
        Path(path).write_text(text)


def _targets(options: argparse.Namespace) -> dict[str, Any]:
    data: dict[str, Any] = dict(read_json(options.targets, "targets")) if options.targets else {}
    given = {
        "tempo_qpm": options.tempo,
        "stage": options.stage,
        "band_percent": options.band,
        "count_off": options.count_off,
        "instrument": options.instrument,
        "step": options.step,
    }
    data.update({name: value for name, value in given.items() if value is not None})
    if "tempo_qpm" not in data:
        raise PassageError("targets.tempo", "Give the target tempo with --tempo or in --targets.")
    return data


def _passage_and_targets(options: argparse.Namespace) -> tuple[Expectation, Targets]:
    """What is expected, and the targets; where no step is asked for, the one that fits the passage."""
    data = _targets(options)
    targets = Targets.from_json(data)
    if options.score is None:
        expectation = _without_notation(options, targets)
    else:
        _, expectation = _expectation(options, targets.bars, targets.order)
    return expectation, targets if "step" in data else replace(targets, step=proposed_ear(expectation).slug)


def _analyse(options: argparse.Namespace) -> None:
    expectation, targets = _passage_and_targets(options)
    with Path(options.audio).open("rb") as source:
        recording = open_recording(source)
    backing = None
    if options.backing:
        with Path(options.backing).open("rb") as source:
            backing = Backing(samples=open_recording(source).samples, at_s=options.backing_at)
    result = result_of(analyse(recording, expectation, targets, backing=backing))
    write_json(options.json, with_names_of_schema_1(result.to_json()))
    if options.midi:
        Path(options.midi).write_bytes(performance_to_midi(result))
    if options.annotated:
        if options.score is None:
            raise PassageError("passage.no_score", "There is no score to write into: give one with --score.")
        with Path(options.score).open("rb") as source:
            _, prepared = prepare_isolated(source)
        Path(options.annotated).write_bytes(annotate_musicxml(prepared, result))


def _without_notation(options: argparse.Namespace, targets: Targets) -> Expectation:
    """Metre and bars alone. Raises ``PassageError`` where they are missing or not understood."""
    metre = re.fullmatch(r"(\d+)/(\d+)", options.metre or "")
    bars = re.fullmatch(r"(\d+)-(\d+)", options.bars or targets.bars or "")
    if metre is None or bars is None:
        raise PassageError("passage.no_score", "Give a --score, or --metre like 4/4 and --bars like 1-8 for a passage without notation.")
    return without_notation(int(bars[2]) - int(bars[1]) + 1, int(metre[1]), int(metre[2]))


def _expect(options: argparse.Namespace) -> None:
    score, expectation = _expectation(options)
    data = expectation_to_json(expectation)
    data["parts"] = [{"name": p.name, "instrument": p.instrument, "transposition": p.transposition} for p in score.parts]
    write_json(options.json, data)


if __name__ == "__main__":
    sys.exit(main())
