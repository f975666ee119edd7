"""A submission carries its studio's number. The database fills it in, so that hosts of the version before, which know nothing of it, write
rows that are whole while an upgrade goes through.
"""

import django.db.models.deletion
from django.db import migrations, models

OWN = """
SELECT assignments_assignment.studio_id FROM takes_take
JOIN assignments_task ON assignments_task.id = takes_take.task_id
JOIN assignments_assignment ON assignments_assignment.id = assignments_task.assignment_id
WHERE takes_take.id = {take}
"""
FILL = f"UPDATE takes_submission SET studio_id = ({OWN.format(take='takes_submission.take_id')})"
WATCH = f"""
CREATE FUNCTION takes_submission_studio() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  NEW.studio_id := ({OWN.format(take="NEW.take_id")});
  RETURN NEW;
END $$;
CREATE TRIGGER takes_submission_studio BEFORE INSERT OR UPDATE ON takes_submission
FOR EACH ROW WHEN (NEW.studio_id IS NULL) EXECUTE FUNCTION takes_submission_studio();
"""
UNWATCH = "DROP TRIGGER takes_submission_studio ON takes_submission; DROP FUNCTION takes_submission_studio();"


def studio(*, null: bool) -> models.ForeignKey:
    return models.ForeignKey(
        db_index=False, editable=False, null=null, on_delete=django.db.models.deletion.CASCADE, related_name="+", to="people.studio"
    )


class Migration(migrations.Migration):
    dependencies = [("people", "0015_languages"), ("takes", "0022_words_read_in_another_language")]

    operations = [
        migrations.AddField("submission", "studio", studio(null=True)),
        migrations.RunSQL(WATCH, UNWATCH),
        migrations.RunSQL(FILL, migrations.RunSQL.noop),
        # The keys of the rows just filled are looked at at the end of a transaction; before it the column cannot be changed.
        migrations.RunSQL("SET CONSTRAINTS ALL IMMEDIATE", migrations.RunSQL.noop),
        migrations.AlterField("submission", "studio", studio(null=False)),
        migrations.RemoveIndex("submission", "waiting_for_an_answer"),
        migrations.RemoveIndex("submission", "answered_last"),
        migrations.AddIndex(
            "submission",
            models.Index(fields=["studio", "submitted_at"], name="waits_in_studio", condition=models.Q(answered_at=None)),
        ),
        migrations.AddIndex(
            "submission",
            models.Index(fields=["studio", "-answered_at"], name="answered_in_studio", condition=models.Q(answered_at__isnull=False)),
        ),
    ]
