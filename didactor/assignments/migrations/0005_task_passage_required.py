import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("assignments", "0004_every_task_has_its_passage")]

    operations = [
        migrations.AlterField(
            model_name="task",
            name="passage",
            field=models.ForeignKey(on_delete=django.db.models.deletion.PROTECT, related_name="tasks", to="library.passage"),
        ),
    ]
