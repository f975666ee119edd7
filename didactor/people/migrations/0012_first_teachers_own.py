from django.db import migrations


def first_teachers_own(apps, schema_editor):
    """Whoever taught first in a studio is its owner."""
    person = apps.get_model("people", "Person")
    for studio in apps.get_model("people", "Studio").objects.all():
        first = person.objects.filter(studio=studio, role="teacher").order_by("pk").first()
        if first is not None:
            person.objects.filter(pk=first.pk).update(is_owner=True)


class Migration(migrations.Migration):
    dependencies = [("people", "0011_owners_and_invitations")]
    operations = [migrations.RunPython(first_teachers_own, migrations.RunPython.noop)]
