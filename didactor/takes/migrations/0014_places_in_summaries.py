"""Where findings lie, in the summaries that lists and sheets read; and moments, for analyses from before these were kept."""

from collections import Counter

from django.db import migrations

CHUNK = 500
PLACE = ("code", "category", "bar", "beat", "size", "start_s", "end_s")


def add_places(apps, schema_editor):
    analysis = apps.get_model("takes", "Analysis")
    changed = []
    for row in analysis.objects.only("summary", "result", "moments").iterator(CHUNK):
        found = row.result.get("findings") or []
        row.summary["categories"] = dict(Counter(f["category"] for f in found))
        row.summary["places"] = [[f.get(name) for name in PLACE] for f in found if f.get("bar") is not None]
        if not row.moments:
            row.moments = moments_in(row.result.get("notes") or [])
        changed.append(row)
        if len(changed) == CHUNK:
            analysis.objects.bulk_update(changed, ["summary", "moments"])
            changed = []
    analysis.objects.bulk_update(changed, ["summary", "moments"])


def moments_in(notes):
    found = {}
    for note in notes:
        if note.get("onset_s") is not None and note.get("status") == "correct":
            key = (note["bar"], note["pass"], round(note["beat"], 3))
            found[key] = min(found.get(key, note["onset_s"]), note["onset_s"])
    return [[*key, at] for key, at in found.items()]


class Migration(migrations.Migration):
    dependencies = [("takes", "0013_same_recording")]
    operations = [migrations.RunPython(add_places, migrations.RunPython.noop)]
