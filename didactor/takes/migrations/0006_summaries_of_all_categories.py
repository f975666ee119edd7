"""Summaries once knew five of the eleven categories: a take with remarks on loudness alone looked clean in every list."""

from django.db import migrations

from didactor.core.formats.glance import summary_of
from didactor.core.formats.result import read_result


def summarise_again(apps, schema_editor):
    analyses = apps.get_model("takes", "Analysis").objects
    for analysis in analyses.only("result", "summary").iterator(chunk_size=50):
        analysis.summary = summary_of(read_result(analysis.result))
        analysis.save(update_fields=["summary"])


class Migration(migrations.Migration):
    dependencies = [("takes", "0005_answered_at")]

    operations = [migrations.RunPython(summarise_again, migrations.RunPython.noop)]
