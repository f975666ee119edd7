from django.db import migrations


def as_assigned(apps, schema_editor):
    """Tasks from before arrangements read the assignment's own passage."""
    for assignment in apps.get_model("assignments", "Assignment").objects.all():
        assignment.tasks.filter(passage=None).update(passage=assignment.passage_id)


class Migration(migrations.Migration):
    dependencies = [("assignments", "0003_task_passage")]

    operations = [migrations.RunPython(as_assigned, migrations.RunPython.noop)]
