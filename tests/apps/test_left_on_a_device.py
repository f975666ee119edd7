"""The demo's recording that waits on a device."""

from __future__ import annotations

import tempfile
from pathlib import Path

from django.test import TestCase
from django.urls import reverse

from didactor.demo.left import leave
from didactor.demo.scenario import DemoTake
from tests import scene as scenes


class LeftTests(scenes.OwnFolders, TestCase):
    def setUp(self):
        self.scene = scenes.build()
        self.enterContext(self.settings(STATE=Path(self.enterContext(tempfile.TemporaryDirectory()))))

    def test_only_its_own_student_and_only_where_there_is_one(self):
        self.client.force_login(self.scene.ylva.student)
        self.assertEqual(self.client.get(reverse("demo:left")).status_code, 404)
        for _ in range(2):
            leave(self.scene.task, DemoTake())
        self.assertContains(self.client.get(reverse("demo:left")), f'data-task="{self.scene.task.pk}"')
        whole = self.client.get(reverse("demo:left_sound"))
        self.assertTrue(whole.getvalue().startswith(b"RIFF"))
        part = self.client.get(reverse("demo:left_sound"), headers={"Range": "bytes=4-7"})
        self.assertEqual((part.status_code, len(part.getvalue())), (206, 4))
        for person in (self.scene.ossian.student, self.scene.teacher):
            self.client.force_login(person)
            self.assertEqual(self.client.get(reverse("demo:left_sound")).status_code, 404)
