"""Whatever is typed, sent twice or made up: no address answers with an error of ours."""

from __future__ import annotations

import base64

from django.test import SimpleTestCase, TestCase
from django.urls import reverse

from didactor.web.numbers import LARGEST_ID, read_id, read_number
from tests.apps.test_permissions import EveryAddressScene
from tests.apps.who_may import EXPECTED, PUBLIC

ODD = ("²", "nan", "inf", "-1", "9" * 400, "a\x00b", "１２", "1e400", "0x10", "99999999999999999999", "' OR 1=1 --", "☃" * 2000)
FIELDS = """
version part intro_bars bar bars beat at_s at tempo tempo_to decision_tempo passage from template enrolments group page layer
naming step kind q search text title note note_id reference unpin standing name length count_off band_percent takes_allowed
preparation_s ladder order segments week due_at category verdict-notes pin-bar pin-category pin-text work_on code next paper
of series in_order steps grade wanted address fault from_day to_day
answer stage level instrument given_by metre beats book number tags decision seed octaves tonic mode rhythm score recording
so_far picture heir since any again away
"""


class NumberTests(SimpleTestCase):
    def test_ids(self):
        for text, value in (("0", 0), ("7", 7), ("007", 7), (str(LARGEST_ID), LARGEST_ID), (str(LARGEST_ID + 1), None)):
            self.assertEqual(read_id(text), value)
        for text in (*ODD, "", " 7", "7 ", "+7", "7.0", None):
            self.assertIsNone(read_id(text), text)

    def test_numbers_within_limits(self):
        for text, value in (("54", 54.0), (" 54,5 ", 54.5), ("10", 10.0), ("400", 400.0), ("9.99", None), ("400.1", None)):
            self.assertEqual(read_number(text, 10.0, 400.0), value, text)
        for text in (*ODD, "", None, "1_0", "1e2", "--5", "."):
            self.assertIsNone(read_number(text, -1e9, 1e300), text)


class OddInputTests(EveryAddressScene, TestCase):
    """Every address with every odd value in every field at once, read and posted, by all who might."""

    def test_no_address_answers_with_an_error_of_ours(self):
        self.client.raise_request_exception = False
        asked = 0
        for who in ("teacher", "ylva"):
            for name in sorted({*EXPECTED, *PUBLIC}):
                if name in ("people:leave", "people:sign_out", "assignments:calendar"):
                    continue  # would end the walk
                self.people[who].refresh_from_db()
                self.client.force_login(self.people[who], backend="didactor.people.backends.PasswordBackend")
                url = reverse(name, args=self.arguments.get(name, []))
                for odd in ("²", "nan", "9" * 400, "a\x00b"):
                    data = dict.fromkeys(FIELDS.split(), odd)
                    for answer in (self.client.get(url, data), self.client.post(url, data)):
                        with self.subTest(who=who, name=name, odd=odd[:20], method=answer.request["REQUEST_METHOD"]):
                            self.assertLess(answer.status_code, 500)
                        asked += 1
        self.assertGreater(asked, 150)

    def test_odd_headers_of_uploads_and_ranges(self):
        self.client.raise_request_exception = False
        self.client.force_login(self.people["ylva"], backend="didactor.people.backends.PasswordBackend")
        uploads, upload, sound = (reverse(n, args=self.arguments.get(n, [])) for n in ("takes:uploads", "takes:upload", "takes:sound"))
        for odd in ODD:
            coded = base64.b64encode(odd.encode()).decode()
            header = odd.encode("utf-8").decode("latin-1").replace("\x00", "")
            metadata = f"task {coded},filename {coded},clicks {coded},backing {coded},step {coded}"
            answers = [
                self.client.post(uploads, headers={"Upload-Length": header, "Upload-Metadata": metadata}),
                self.client.post(uploads, headers={"Upload-Length": "5", "Upload-Metadata": header}),
                self.client.patch(upload, b"x", content_type="application/offset+octet-stream", headers={"Upload-Offset": header}),
                self.client.get(sound, headers={"Range": f"bytes={header}-"}),
                self.client.get(sound, headers={"Range": f"bytes=-{header}"}),
            ]
            for answer in answers:
                self.assertLess(answer.status_code, 500, odd[:20])

    def test_a_path_with_nul_is_nowhere(self):
        self.assertEqual(self.client.get("/stand/%00/").status_code, 404)
