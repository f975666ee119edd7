"""Recordings in an object store that several machines share: one that comes in over one machine is heard and played over another."""

from __future__ import annotations

import io
import logging
import tempfile
import time
import uuid
import zipfile
from pathlib import Path
from unittest import mock

import boto3
from botocore.exceptions import EndpointConnectionError
from django.core.files.base import ContentFile
from django.core.files.storage import default_storage
from django.test import TestCase, override_settings
from django.urls import reverse
from moto.server import ThreadedMotoServer

from didactor.archive.of_person import write_copy
from didactor.practice.models import Attempt
from didactor.practice.samples import forget_samples, hand_over, raw_samples
from didactor.takes.jobs import analyse_take
from didactor.takes.models import Take, TakeState, Upload
from didactor.takes.services import StorageFull, append_to_upload, begin_upload, erase_take
from didactor.takes.upkeep import discard_stale_uploads, sweep_files
from didactor.web.store import stored
from tests import scene as scenes
from tests.music import wav

KEYS = {"access_key": "testing", "secret_key": "testing", "region_name": "us-east-1"}
BACKEND = "didactor.people.backends.PasswordBackend"
STATIC = {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"}


logging.getLogger("werkzeug").setLevel(logging.ERROR)


class SharedStore(scenes.OwnFolders):
    """Mixin: the store is a stand-in for an object store, with a bucket for the class."""

    @classmethod
    def setUpClass(cls):
        cls.server = ThreadedMotoServer(port=0, verbose=False)
        cls.server.start()
        host, port = cls.server.get_host_and_port()
        address, bucket = f"http://{host}:{port}", f"didactor-{uuid.uuid4().hex[:8]}"
        account = boto3.Session(aws_access_key_id="testing", aws_secret_access_key="testing", region_name="us-east-1")
        account.client("s3", endpoint_url=address).create_bucket(Bucket=bucket)
        options = {
            "bucket_name": bucket,
            "location": "school",
            "endpoint_url": address,
            **KEYS,
        }
        super().setUpClass()
        store = {"BACKEND": "didactor.web.object_store.ObjectStore", "OPTIONS": options}
        cls._shared = override_settings(STORE=f"s3://{bucket}/school", STORAGES={"default": store, "staticfiles": STATIC})
        cls._shared.enable()

    @classmethod
    def tearDownClass(cls):
        cls._shared.disable()
        super().tearDownClass()
        cls.server.stop()

    def another_machine(self) -> override_settings:
        """Its folders are its own; the database and the store are the same."""
        folder = Path(tempfile.mkdtemp())
        return override_settings(UPLOAD_ROOT=folder / "uploads", MEDIA_ROOT=folder / "media")


class ObjectStoreTests(SharedStore, TestCase):
    def setUp(self):
        self.scene = scenes.build(listen_first=False)
        self.student, self.task = self.scene.ylva.student, self.scene.task
        self.data = wav(seed=uuid.uuid4().int % 10_000)

    def piece(self, upload: Upload, start: int, end: int | None) -> Upload:
        body = io.BytesIO(self.data[start:end])
        return append_to_upload(upload_id=upload.pk, owner=self.student, offset=start, body=body)

    def begun(self) -> Upload:
        return begin_upload(student=self.student, task=self.task, filename="take.wav", length=len(self.data))

    def pieces(self, upload: Upload) -> list[str]:
        return [name for name, _ in stored() if name.startswith(f"uploads/{upload.pk}/")]

    def test_begun_over_one_machine_and_ended_over_another_then_heard_by_a_third(self):
        upload = self.begun()
        self.piece(upload, 0, 70_000)
        with self.another_machine():
            self.piece(upload, 70_000, 90_000)
        with self.another_machine(), self.captureOnCommitCallbacks(execute=True):
            take = self.piece(upload, 90_000, None).take
        self.assertEqual(default_storage.open(take.original.name).read(), self.data)
        self.assertEqual(self.pieces(upload), [], "nothing on its way is left")
        with self.another_machine():
            analyse_take(take_id=take.pk)
        take = Take.objects.get(pk=take.pk)
        self.assertEqual(take.state, TakeState.ANALYSED)
        self.assertTrue(default_storage.exists(take.playback.name))

    def test_a_piece_whose_answer_was_lost_comes_again_shorter_or_longer(self):
        upload = self.begun()
        self.piece(upload, 0, 50_000)
        Upload.objects.update(offset=0)
        self.piece(upload, 0, 20_000)
        self.piece(upload, 20_000, 60_000)
        take = self.piece(upload, 60_000, None).take
        self.assertEqual(default_storage.open(take.original.name).read(), self.data)

    def test_the_same_recording_twice_is_one_object_and_goes_with_the_last(self):
        first = self.piece(self.begun(), 0, None).take
        self.assertEqual(self.piece(self.begun(), 0, None).take, first)
        other = scenes.recorded_by(scenes.another(self.scene, "Tove"), self.data)
        self.assertEqual(other.original.name, first.original.name)
        for take, there in ((first, True), (other, False)):
            with self.captureOnCommitCallbacks(execute=True):
                erase_take(take)
            self.assertEqual(default_storage.exists(first.original.name), there)

    def test_a_store_that_is_away_loses_nothing(self):
        upload = self.begun()
        self.piece(upload, 0, 50_000)
        away = EndpointConnectionError(endpoint_url="http://store.example")
        with mock.patch("botocore.httpsession.URLLib3Session.send", side_effect=away):
            with self.assertRaises(StorageFull):
                self.piece(upload, 50_000, None)
            self.client.force_login(self.student, backend=BACKEND)
            url = reverse("takes:upload", args=[upload.pk])
            headers = {"Upload-Offset": "50000", "Tus-Resumable": "1.0.0"}
            answer = self.client.generic("PATCH", url, self.data[50_000:], content_type="application/offset+octet-stream", headers=headers)
            self.assertEqual(answer.status_code, 507)
        self.assertEqual(Upload.objects.get(pk=upload.pk).offset, 50_000)
        take = self.piece(upload, 50_000, None).take
        self.assertEqual(default_storage.open(take.original.name).read(), self.data)
        with mock.patch("botocore.httpsession.URLLib3Session.send", side_effect=away), self.assertRaises(EndpointConnectionError):
            analyse_take(take_id=take.pk)
        self.assertNotEqual(Take.objects.get(pk=take.pk).state, TakeState.FAILED, "it waits, and is taken up again")
        analyse_take(take_id=take.pk)
        self.assertEqual(Take.objects.get(pk=take.pk).state, TakeState.ANALYSED)

    def test_players_get_the_range_they_ask_for_and_no_more_is_fetched(self):
        take = self.piece(self.begun(), 0, None).take
        self.client.force_login(self.student, backend=BACKEND)
        take.playback.save("x.mp4", ContentFile(bytes(range(200)) * 5))
        url = reverse("takes:sound", args=[take.pk])
        whole = self.client.get(url)
        self.assertEqual((b"".join(whole.streaming_content), whole["Content-Length"]), (bytes(range(200)) * 5, "1000"))
        with mock.patch.object(default_storage._wrapped, "open", side_effect=AssertionError("all of it is fetched")):
            part = self.client.get(url, headers={"Range": "bytes=10-19"})
            self.assertEqual((part.status_code, b"".join(part.streaming_content)), (206, bytes(range(10, 20))))
        self.assertEqual(b"".join(self.client.get(url, headers={"Range": "bytes=-5"}).streaming_content), bytes(range(195, 200)))
        self.assertEqual(self.client.get(url, headers={"Range": "bytes=1000-"}).status_code, 416)

    def test_a_proxy_is_given_an_address_that_holds_for_a_minute(self):
        take = self.piece(self.begun(), 0, None).take
        take.playback.save("x y.mp4", ContentFile(b"sound"))
        self.client.force_login(self.student, backend=BACKEND)
        with override_settings(PROXY_MEDIA="/kept/"):
            answer = self.client.get(reverse("takes:sound", args=[take.pk]))
            self.assertEqual((answer.content, answer["Content-Type"]), (b"", "audio/mp4"))
            self.assertRegex(
                answer["X-Accel-Redirect"], r"^/kept/didactor-\w+/school/playback/.*mp4\?.*content-type=audio%2Fmp4.*Expires=60.*Signature="
            )
            self.client.force_login(self.scene.ossian.student, backend=BACKEND)
            self.assertEqual(self.client.get(reverse("takes:sound", args=[take.pk])).status_code, 404, "asked before")
            with override_settings(STORE=""):
                self.client.force_login(self.student, backend=BACKEND)
                folder = self.client.get(reverse("takes:sound", args=[take.pk]))
                self.assertEqual(folder["X-Accel-Redirect"], "/kept/" + take.playback.name.replace(" ", "%20"))

    def test_by_night_what_nobody_names_goes_and_what_is_on_its_way_stays(self):
        upload, take = self.begun(), self.piece(self.begun(), 0, None).take
        self.piece(upload, 0, 100)
        left = default_storage.save("playback/left.mp4", ContentFile(b"x"))
        of_nobody = default_storage.save(f"uploads/{uuid.uuid4()}/{0:013d}", ContentFile(b"x"))
        with mock.patch("didactor.takes.upkeep.time.time", return_value=time.time() + 60):
            sweep_files(older_than_s=3600.0)
            self.assertTrue(default_storage.exists(left), "young")
            sweep_files(older_than_s=30.0)
        names = {name for name, _ in stored()}
        self.assertNotIn(left, names)
        self.assertNotIn(of_nobody, names)
        self.assertLessEqual({take.original.name, *self.pieces(upload)}, names)
        self.assertTrue(self.pieces(upload))
        discard_stale_uploads(older_than_days=-1)
        self.assertEqual(self.pieces(upload), [])

    def test_an_attempt_is_heard_by_another_machine(self):
        attempt = Attempt.objects.create(task=self.task, stone="1-2", bars="1-2", tempo=60)
        attempt.samples_path.parent.mkdir(parents=True, exist_ok=True)
        attempt.samples_path.write_bytes(b"\x01\x00" * 50)
        with self.another_machine():
            self.assertEqual(raw_samples(attempt), b"")
        hand_over(attempt)
        self.assertFalse(attempt.samples_path.exists())
        with self.another_machine():
            self.assertEqual(raw_samples(attempt), b"\x01\x00" * 50)
            forget_samples(attempt)
        self.assertEqual(raw_samples(attempt), b"")

    def test_a_web_host_whose_store_is_away_is_sent_nobody(self):
        self.assertEqual(self.client.get(reverse("ready")).status_code, 200)
        away = EndpointConnectionError(endpoint_url="http://store.example")
        with mock.patch("botocore.httpsession.URLLib3Session.send", side_effect=away):
            answer = self.client.get(reverse("ready"))
        self.assertEqual(answer.status_code, 503)
        self.assertContains(answer, "store", status_code=503)

    def test_a_person_s_copy_is_made_out_of_it(self):
        take = self.piece(self.begun(), 0, None).take
        made = io.BytesIO()
        write_copy(self.student, made)
        self.assertEqual(zipfile.ZipFile(made).read(f"files/take-{take.pk}-original-take.wav"), self.data)
