"""The desk counts what is still to be heard and what failed: of one large school the database read all takes for it."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("takes", "0023_submissions_know_their_studio")]

    operations = [
        migrations.AddIndex(
            "take", models.Index(fields=["task"], name="takes_not_heard", condition=models.Q(state__in=("stored", "analysing", "failed")))
        ),
        migrations.RemoveIndex("take", "takes_being_heard"),
    ]
