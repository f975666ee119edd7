from django.db import migrations
from django.db.models import OuterRef, Subquery


def answered(apps, schema_editor):
    sent = apps.get_model("review", "Review").objects.filter(submission=OuterRef("pk")).values("sent_at")
    apps.get_model("takes", "Submission").objects.update(answered_at=Subquery(sent))


class Migration(migrations.Migration):
    dependencies = [("review", "0001_initial"), ("takes", "0005_answered_at")]

    operations = [migrations.RunPython(answered, migrations.RunPython.noop)]
