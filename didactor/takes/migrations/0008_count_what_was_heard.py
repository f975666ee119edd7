from django.db import migrations


def count(apps, schema_editor):
    """Takes that were heard count; of those deleted before, only the numbers are left: each counted then."""
    Take = apps.get_model("takes", "Take")
    for task in apps.get_model("assignments", "Task").objects.filter(takes__isnull=False).distinct().iterator():
        goal, before = task.assignment.step, set(task.assignment.before_steps)
        own = list(Take.objects.filter(task=task).only("number", "state", "basis"))
        heard = [t for t in own if t.state == "analysed" and t.basis.get("step", goal) not in before]
        deleted = max(t.number for t in own) - len(own)
        Take.objects.filter(pk__in=[t.pk for t in heard]).update(counted=True)
        task.takes_spent = len(heard) + deleted
        task.save(update_fields=["takes_spent"])


class Migration(migrations.Migration):
    dependencies = [("takes", "0007_takes_spent"), ("assignments", "0010_takes_spent")]

    operations = [migrations.RunPython(count, migrations.RunPython.noop)]
