"""Where findings lie, in the summaries that lists and sheets read."""

from collections import Counter

from django.db import migrations

CHUNK = 500
PLACE = ("code", "category", "bar", "beat", "size", "start_s", "end_s")


def add_places(apps, schema_editor):
    analysis = apps.get_model("takes", "Analysis")
    changed = []
    for row in analysis.objects.only("summary", "result").iterator(CHUNK):
        found = row.result.get("findings") or []
        row.summary["categories"] = dict(Counter(f["category"] for f in found))
        row.summary["places"] = [[f.get(name) for name in PLACE] for f in found if f.get("bar") is not None]
        changed.append(row)
        if len(changed) == CHUNK:
            analysis.objects.bulk_update(changed, ["summary"])
            changed = []
    analysis.objects.bulk_update(changed, ["summary"])


class Migration(migrations.Migration):
    dependencies = [("takes", "0013_same_recording")]
    operations = [migrations.RunPython(add_places, migrations.RunPython.noop)]
