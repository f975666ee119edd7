"""Seconds of pauses, in the summaries that progress reads, for analyses from before these were kept."""

from django.db import migrations

CHUNK = 500


def add_pauses(apps, schema_editor):
    analysis = apps.get_model("takes", "Analysis")
    changed = []
    for row in analysis.objects.only("summary", "result").iterator(CHUNK):
        pulse = row.result.get("pulse")
        row.summary["paused_s"] = None if pulse is None else round(sum(p.get("extra_s") or 0.0 for p in pulse.get("hesitations") or []), 1)
        changed.append(row)
        if len(changed) == CHUNK:
            analysis.objects.bulk_update(changed, ["summary"])
            changed = []
    analysis.objects.bulk_update(changed, ["summary"])


class Migration(migrations.Migration):
    dependencies = [("takes", "0015_indexes_for_long_lists")]
    operations = [migrations.RunPython(add_pauses, migrations.RunPython.noop)]
