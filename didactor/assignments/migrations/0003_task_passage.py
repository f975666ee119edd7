import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("assignments", "0002_step"),
        ("library", "0002_arrangements"),
    ]

    operations = [
        migrations.AddField(
            model_name="task",
            name="passage",
            field=models.ForeignKey(null=True, on_delete=django.db.models.deletion.PROTECT, related_name="tasks", to="library.passage"),
        ),
        migrations.AddField(model_name="task", name="tempo", field=models.FloatField(blank=True, null=True)),
        migrations.AddField(model_name="task", name="own_due_at", field=models.DateTimeField(blank=True, null=True)),
    ]
