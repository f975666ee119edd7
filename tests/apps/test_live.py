"""The sockets behind which the ear listens: one line each way, whose turn it is, and nothing that is sent to them ends them."""

from __future__ import annotations

import contextlib
import socket
import tempfile
import threading
import time
import uuid
from pathlib import Path
from unittest import mock

import numpy as np
from django.test import SimpleTestCase, TestCase, override_settings

from didactor.core.sound.recording import RATE_HZ
from didactor.practice import line, live, turns


def say(attempt_id: uuid.UUID, piece: bytes = b"", heard_s: float = 1.0, *, last: bool = False) -> str:
    return live.ask(attempt_id, piece, rate_hz=RATE_HZ, heard_s=heard_s, last=last).state


class Sockets(SimpleTestCase):
    """One process that keeps the turns and one that listens, as threads; ``answers``: what the ear finds, one after the other."""

    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        for patch in (
            override_settings(LISTEN_HERE=False, STATE=Path(folder.name)),
            mock.patch.object(live, "close_old_connections"),
            mock.patch.object(line, "CONNECT_S", 0.3),
            mock.patch.object(live, "look_at", side_effect=self.look),
        ):
            patch.enable() if isinstance(patch, override_settings) else patch.start()
            self.addCleanup(patch.disable if isinstance(patch, override_settings) else patch.stop)
        self.answers: list[object] = []
        self.pieces = turns.Pieces(turns.Turns(1, turns.of_the_ears))
        self.begin("ears", live._hear)
        self.begin("live", turns.keep_the_door, self.pieces)

    def begin(self, name: str, work, *more: object) -> None:
        door = line.open_door(name)
        self.addCleanup(door.close)

        def serve() -> None:
            with contextlib.suppress(OSError):
                work(door, *more)

        threading.Thread(target=serve, daemon=True).start()

    def look(self, attempt_id: uuid.UUID) -> str:
        answer = self.answers.pop(0)
        if isinstance(answer, Exception):
            raise answer
        return f"{answer}"


class SocketTests(Sockets):
    def test_an_answer_comes_back(self):
        self.answers = ["going", "over"]
        self.assertEqual(live.ask(uuid.uuid4(), b"", rate_hz=RATE_HZ, heard_s=1.0), ("going", False))
        self.assertEqual(say(uuid.uuid4()), "over")

    def test_what_goes_wrong_in_one_attempt_is_away_and_ends_nothing(self):
        self.answers = [RuntimeError("the ear fell over"), "going"]
        with self.assertLogs("didactor.practice.line", "ERROR"):
            self.assertEqual(say(uuid.uuid4()), "away")
        self.assertEqual(say(uuid.uuid4()), "going")

    def test_all_who_serve_pages_share_the_turns(self):
        """Whatever process a piece comes in at: what was asked for by one is told to the next."""
        begun, heard = threading.Event(), threading.Event()
        found: list[str] = []

        def slowly(attempt_id: uuid.UUID) -> str:
            begun.set()
            heard.wait(5)
            return "over"

        one = uuid.uuid4()
        with mock.patch.object(live, "look_at", side_effect=slowly) as looks:
            first = threading.Thread(target=lambda: found.append(say(uuid.uuid4())))
            first.start()
            begun.wait(5)
            self.assertEqual([say(one), say(one)], ["going", "going"])
            self.assertEqual(live.ask(one, b"", rate_hz=RATE_HZ, heard_s=1.0), ("going", True), "there is no hurry to ask again")
            heard.set()
            first.join(5)
            until = time.monotonic() + 5
            while (told := say(one)) == "going" and time.monotonic() < until:
                time.sleep(0.02)
        self.assertEqual((found, told, looks.call_count), (["over"], "over", 2))

    def test_while_it_plays_on_before_its_last_note_is_due_nobody_listens(self):
        time_s = np.arange(RATE_HZ) / RATE_HZ
        loud, one = (9000 * np.sin(2 * np.pi * 440 * time_s)).astype("<i2").tobytes(), uuid.uuid4()
        self.answers = ["going", "over"]
        with mock.patch.dict(live._KEPT, {one: mock.Mock(prompt=None, due=mock.Mock(end_s=6.0))}):
            self.assertEqual([say(one, loud, at) for at in (1.0, 2.0, 5.9)], ["going"] * 3)
            self.assertEqual(self.answers, ["over"])
            self.assertEqual(say(one, loud, 6.0), "over")

    def test_where_nobody_keeps_the_turns_or_nobody_listens_it_is_away(self):
        self.answers = ["going"] * 2
        line.socket_path("ears").unlink()
        self.assertEqual(say(uuid.uuid4()), "away")
        line.socket_path("live").unlink()
        self.assertEqual(say(uuid.uuid4()), "away")

    def test_a_process_that_listens_tells_when_it_is_due_to_end(self):
        one = uuid.uuid4()
        due = mock.Mock(prompt=None, due=mock.Mock(end_s=7.5))
        self.answers = ["going", "going"]
        with mock.patch.dict(live._KEPT, {one: due}):
            self.assertEqual(turns.of_the_ears(one), ("going", 7.5, False))
            due.prompt = "a single tone may be over at any time"
            self.assertEqual(turns.of_the_ears(one), ("going", 0.0, False))

    def test_nonsense_and_silence_are_away(self):
        self.answers = ["going"]
        for name in ("ears", "live"):
            for sent in (b"nonsense\n", b'{"attempt": 7}\n', b'{"attempt": "x"}\n', b"[]\n", b"x" * 5000 + b"\n", b""):
                with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as asking:
                    asking.connect(str(line.socket_path(name)))
                    if sent:
                        asking.sendall(sent)
                    asking.settimeout(2)
                    self.assertIn(b"away", asking.recv(100) if sent else b"away", sent)
        self.assertEqual(say(uuid.uuid4()), "going")


class TurnsTests(SimpleTestCase):
    def test_while_all_listen_to_others_no_page_waits_and_the_next_piece_is_told(self):
        begun, heard = threading.Event(), threading.Event()
        order: list[uuid.UUID] = []

        def slowly(attempt_id: uuid.UUID) -> turns.Answer:
            order.append(attempt_id)
            begun.set()
            heard.wait(5)
            return turns.Answer("over")

        taking, first, second = turns.Turns(1, slowly), uuid.uuid4(), uuid.uuid4()
        one = threading.Thread(target=taking.ask, args=(first,), kwargs={"last": False})
        one.start()
        begun.wait(5)
        self.assertEqual([taking.ask(second, last=False).state for _ in range(3)], ["going"] * 3)
        with mock.patch.object(turns, "ANSWER_S", 0.05):
            self.assertEqual(taking.ask(uuid.uuid4(), last=True).state, "away", "its turn did not come")
        heard.set()
        one.join(5)
        self.assertEqual(taking.ask(uuid.uuid4(), last=True).state, "over")
        self.assertEqual(order[:2], [first, second], "who came first is heard first")
        self.assertEqual(taking.ask(second, last=False).state, "over")
        self.assertEqual(order.count(second), 1, "once, however many pieces came meanwhile")

    def test_what_went_on_is_asked_anew_with_the_next_piece(self):
        hear, one = mock.Mock(side_effect=[turns.Answer(state) for state in ("going", "away", "over")]), uuid.uuid4()
        taking = turns.Turns(1, hear)
        self.assertEqual([taking.ask(one, last=False).state for _ in range(3)], ["going", "away", "over"])
        self.assertEqual(hear.call_count, 3)

    def test_what_was_found_for_pages_that_were_closed_is_forgotten(self):
        begun, heard = threading.Event(), threading.Event()
        taking = turns.Turns(1, lambda _: (begun.set(), heard.wait(5), turns.Answer("over"))[-1])
        threading.Thread(target=taking.ask, args=(uuid.uuid4(),), kwargs={"last": False}).start()
        begun.wait(5)
        for _ in range(3 * turns.MOST_KEPT):
            taking.ask(uuid.uuid4(), last=False)
        heard.set()
        taking._pool.shutdown()
        taking._forget_old()
        self.assertLessEqual(len(taking._waiting), turns.MOST_KEPT)

    def test_a_pause_is_looked_into_and_what_is_known_is_kept(self):
        hear = mock.Mock(side_effect=[turns.Answer("going", 6.0), turns.Answer("away"), turns.Answer("going", 6.0), turns.Answer("over")])
        pieces, one, other = turns.Pieces(turns.Turns(1, hear)), uuid.uuid4(), uuid.uuid4()

        def sent(attempt_id: uuid.UUID, level_db: float | None, heard_s: float, *, last: bool = False) -> str:
            return pieces.ask(attempt_id, level_db=level_db, heard_s=heard_s, last=last).state

        self.assertEqual(sent(one, -12.0, 1.0), "going")
        self.assertEqual([sent(one, -12.0, at) for at in (2.0, 3.0, 5.9)], ["going"] * 3)
        self.assertEqual(hear.call_count, 1)
        self.assertEqual(sent(one, -40.0, 4.0), "away", "a pause is looked into")
        self.assertEqual(sent(one, -12.0, 5.0), "going", "when it is due is known still")
        self.assertEqual(sent(other, -12.0, 5.0), "going", "of another one it is not known")
        self.assertEqual(hear.call_count, 3)
        self.assertEqual(sent(one, -12.0, 6.0), "over")
        hear.side_effect = [turns.Answer("over")] * 2
        self.assertEqual(sent(one, None, 3.0), "over", "too short to say how loud it is: asked")
        with mock.patch.object(turns, "MOST_KNOWN", 1):
            self.assertEqual(sent(other, -12.0, 5.5, last=True), "over", "what is over is looked at")
            self.assertEqual(len(pieces._known), 1)


class GoneTests(TestCase):
    def test_an_attempt_that_was_erased_meanwhile_is_away(self):
        self.assertEqual(live.look_at(uuid.uuid4()), live.AWAY)


class NameTests(SimpleTestCase):
    def test_names_of_sockets_are_short(self):
        with override_settings(STATE=Path("/" + "long/" * 40)):
            self.assertLess(len(str(line.socket_path("live"))), 108)
        with override_settings(STATE=Path("/srv/didactor")):
            self.assertEqual(str(line.socket_path("live")), "/srv/didactor/live.sock")
