"""The socket behind which the ear listens: one line each way, and nothing that is sent to it ends it."""

from __future__ import annotations

import contextlib
import socket
import tempfile
import threading
import uuid
from pathlib import Path
from unittest import mock

import numpy as np
from django.test import SimpleTestCase, TestCase, override_settings

from didactor.core.sound.recording import RATE_HZ
from didactor.practice import live


def say(attempt_id: uuid.UUID, piece: bytes = b"", heard_s: float = 1.0, *, last: bool = False) -> str:
    return live.ask(attempt_id, piece, rate_hz=RATE_HZ, heard_s=heard_s, last=last)


@override_settings(LISTEN_HERE=False)
class SocketTests(SimpleTestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        path = Path(folder.name) / "live.sock"
        self.path = path
        for patch in (
            mock.patch.object(live, "socket_path", return_value=path),
            mock.patch.object(live, "close_old_connections"),
            mock.patch.object(live, "CONNECT_S", 0.3),
        ):
            patch.start()
            self.addCleanup(patch.stop)
        door = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        door.bind(str(path))
        door.listen(4)
        self.addCleanup(door.close)
        self.answers: list[object] = []
        look = mock.patch.object(live, "look_at", side_effect=self.look)
        look.start()
        self.addCleanup(look.stop)
        threading.Thread(target=self.serve, args=(door,), daemon=True).start()

    def serve(self, door: socket.socket) -> None:
        with contextlib.suppress(OSError):
            live._answer(door)

    def look(self, attempt_id: uuid.UUID) -> str:
        answer = self.answers.pop(0)
        if isinstance(answer, Exception):
            raise answer
        return f"{answer}"

    def test_an_answer_comes_back(self):
        self.answers = ["going", "over"]
        self.assertEqual([say(uuid.uuid4()), say(uuid.uuid4())], ["going", "over"])

    def test_what_goes_wrong_in_one_attempt_is_away_and_ends_nothing(self):
        self.answers = [RuntimeError("the ear fell over"), "going"]
        with self.assertLogs("didactor.practice.live", "ERROR"):
            self.assertEqual(say(uuid.uuid4()), "away")
        self.assertEqual(say(uuid.uuid4()), "going")

    def test_while_all_listen_to_others_no_page_waits_and_the_next_piece_is_told(self):
        turns, first, second = live.Turns(1), uuid.uuid4(), uuid.uuid4()
        begun, heard = threading.Event(), threading.Event()
        order: list[uuid.UUID] = []

        def slowly(attempt_id: uuid.UUID) -> live.Answer:
            order.append(attempt_id)
            begun.set()
            heard.wait(5)
            return live.Answer("over")

        with mock.patch.object(live, "_answered", side_effect=slowly):
            one = threading.Thread(target=turns.ask, args=(first,), kwargs={"last": False})
            one.start()
            begun.wait(5)
            self.assertEqual([turns.ask(second, last=False).state for _ in range(3)], ["going"] * 3)
            with mock.patch.object(live, "ANSWER_S", 0.05):
                self.assertEqual(turns.ask(uuid.uuid4(), last=True).state, "away", "its turn did not come")
            heard.set()
            one.join(5)
            self.assertEqual(turns.ask(uuid.uuid4(), last=True).state, "over")
            self.assertEqual(order[:2], [first, second], "who came first is heard first")
            self.assertEqual(turns.ask(second, last=False).state, "over")
            self.assertEqual(order.count(second), 1, "once, however many pieces came meanwhile")

    def test_what_went_on_is_asked_anew_with_the_next_piece(self):
        turns, one = live.Turns(1), uuid.uuid4()
        with mock.patch.object(live, "_answered", side_effect=[live.Answer(state) for state in ("going", "away", "over")]) as answered:
            self.assertEqual([turns.ask(one, last=False).state for _ in range(2)], ["going", "away"])
            self.assertEqual(turns.ask(one, last=False).state, "over")
        self.assertEqual(answered.call_count, 3)

    def test_what_was_found_for_pages_that_were_closed_is_forgotten(self):
        turns = live.Turns(1)
        begun, heard = threading.Event(), threading.Event()
        with mock.patch.object(live, "_answered", side_effect=lambda _: (begun.set(), heard.wait(5), live.Answer("over"))[-1]):
            threading.Thread(target=turns.ask, args=(uuid.uuid4(),), kwargs={"last": False}).start()
            begun.wait(5)
            for _ in range(3 * live.MOST_KEPT):
                turns.ask(uuid.uuid4(), last=False)
            heard.set()
            turns._pool.shutdown()
        turns._forget_old()
        self.assertLessEqual(len(turns._waiting), live.MOST_KEPT)

    def test_while_it_plays_on_before_its_last_note_is_due_nobody_is_asked(self):
        time_s = np.arange(RATE_HZ) / RATE_HZ
        loud = (9000 * np.sin(2 * np.pi * 440 * time_s)).astype("<i2").tobytes()
        quiet, one, other = bytes(len(loud)), uuid.uuid4(), uuid.uuid4()
        answers = [live.Answer("going", 6.0), live.Answer("away"), live.Answer("going", 6.0), live.Answer("over")]
        pieces = live.Pieces(live.Turns(1))

        def sent(attempt_id: uuid.UUID, piece: bytes, heard_s: float, *, last: bool = False) -> str:
            return pieces.ask(attempt_id, piece, rate_hz=RATE_HZ, heard_s=heard_s, last=last)

        with mock.patch.object(live, "_answered", side_effect=answers) as answered:
            self.assertEqual(sent(one, loud, 1.0), "going")
            self.assertEqual([sent(one, loud, at) for at in (2.0, 3.0, 5.9)], ["going"] * 3)
            self.assertEqual(answered.call_count, 1)
            self.assertEqual(sent(one, quiet, 4.0), "away", "a pause is looked into")
            self.assertEqual(sent(one, loud, 5.0), "going", "when it is due is known still")
            self.assertEqual(sent(other, loud, 5.0), "going", "of another one it is not known")
            self.assertEqual(answered.call_count, 3)
            self.assertEqual(sent(one, loud, 6.0), "over")
        with mock.patch.object(live, "_answered", return_value=live.Answer("over")), mock.patch.object(live, "MOST_KNOWN", 1):
            self.assertEqual(sent(other, loud, 5.5, last=True), "over", "what is over is looked at")
            self.assertEqual(len(pieces._known), 1)

    def test_a_process_that_listens_tells_when_it_is_due_to_end(self):
        one = uuid.uuid4()
        due = mock.Mock(prompt=None, due=mock.Mock(end_s=7.5))
        self.answers = ["going", "going"]
        with mock.patch.dict(live._KEPT, {one: due}):
            self.assertEqual(live._answered(one), ("going", 7.5))
            due.prompt = "a single tone may be over at any time"
            self.assertEqual(live._answered(one), ("going", 0.0))

    def test_nonsense_and_silence_are_away(self):
        self.answers = ["going"]
        for sent in (b"nonsense\n", b'{"attempt": 7}\n', b'{"attempt": "x"}\n', b"[]\n", b"x" * 5000 + b"\n", b""):
            with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as line:
                line.connect(str(self.path))
                if sent:
                    line.sendall(sent)
                line.settimeout(2)
                self.assertIn(b"away", line.recv(100) if sent else b"away", sent)
        self.assertEqual(say(uuid.uuid4()), "going")


class GoneTests(TestCase):
    def test_an_attempt_that_was_erased_meanwhile_is_away(self):
        self.assertEqual(live.look_at(uuid.uuid4()), live.AWAY)


class NameTests(SimpleTestCase):
    def test_names_of_sockets_are_short(self):
        with override_settings(STATE=Path("/" + "long/" * 40)):
            self.assertLess(len(str(live.socket_path())), 108)
        with override_settings(STATE=Path("/srv/didactor")):
            self.assertEqual(str(live.socket_path()), "/srv/didactor/live.sock")
