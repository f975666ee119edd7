from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("takes", "0004_backing")]

    operations = [migrations.AddField(model_name="submission", name="answered_at", field=models.DateTimeField(null=True))]
