"""The passage as it is played from: large, and for a child who does not read notes yet as a picture."""

from __future__ import annotations

from didactor.assignments.models import Task
from didactor.core.formats.lanes.aids import aided_score
from didactor.core.score.roadmap import bars_between
from didactor.core.score.study.reading_aids import note_name
from didactor.core.score.write.engraving import PLAYED_FROM
from didactor.library.desk import has_additions, pinned_drawings, pinned_fingerings
from didactor.library.drawings import plain_drawings
from didactor.library.models import Passage
from didactor.library.notation import engravings_of, read_part

#: In a drawing, what is sung.
SYLLABLE = 'data-class="syl"'


def sheet_to_play(task: Task) -> dict[str, str]:
    """Drawings by layout."""
    return _as_written(task.passage) if task.enrolment.reads_notes else _picture(task)


def _as_written(passage: Passage) -> dict[str, str]:
    """The passage in a large staff. Words under notes need more room than the narrowest layout has: songs are drawn as elsewhere."""
    draw = pinned_drawings if has_additions(passage) else plain_drawings
    drawings = draw(passage, PLAYED_FROM)
    if SYLLABLE in drawings["handheld"]:
        drawings["handheld"] = draw(passage, ("phone",))["phone"]
    return drawings


def _picture(task: Task) -> dict[str, str]:
    """The passage for a child who does not read notes yet: heads in the teacher's colours, fingers and the studio's names under them."""
    passage, studio = task.passage, task.enrolment.student.studio
    part = read_part(passage.revision_id, passage.part)
    inside = {bar.index: bar for bar in bars_between(part, passage.bars)}
    notes = [n for n in part.notes if n.bar_index in inside and not n.unpitched]
    # The score's own fingers are engraved with it.
    fingers = {note: finger for note, finger in pinned_fingerings(passage).items() if note in {n.id for n in notes}}
    names = {n.id: note_name(n, inside[n.bar_index].fifths, "own", studio.note_names) for n in notes}
    rows = {"fingers": fingers} if fingers else {}
    tones = {n.id: f"tone-{tone}" for n in notes if (tone := studio.note_colours.get(n.step))}
    numbers = {bar["id"]: bar["number"] for bar in passage.part_entry["bars"]}
    engraved = engravings_of(revision=passage.revision, part=passage.part, bars=passage.bars, layouts=PLAYED_FROM)
    return {layout: aided_score(e.svg, e.geometry, numbers, {**rows, "names": names}, {}, tones=tones) for layout, e in engraved.items()}
