"""Does the reverse proxy of docs/operation.md do what is said of it, with files in a folder and with files in an object store?

    bench/proxy             both; needs nginx (Debian: apt-get install nginx-light)
    bench/proxy --write     also refreshes its part of docs/benchmarks.md

The configuration is the one printed in the documentation, with names and ports of this machine put in. Behind it stand two web hosts and a
worker. What is tried: see ``tried``. The last line is one JSON object; exits 1 where something did not hold.
"""

from __future__ import annotations

import argparse
import http.client
import os
import re
import shutil
import ssl
import subprocess
import sys
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE.parent), str(HERE)]

from django.test.utils import setup_databases, setup_test_environment, teardown_databases  # noqa: E402
from hosts import FOLDER, PYTHON, ROOT, SERVE, Browser, Host, answers, end_sessions, free_port, object_store, until  # noqa: E402
from report import close  # noqa: E402

from didactor.assignments.models import Task  # noqa: E402
from didactor.people.models import Person  # noqa: E402
from didactor.takes.models import Take, TakeState  # noqa: E402
from tests import scene as scenes  # noqa: E402
from tests.music import wav  # noqa: E402

NAME = "school.example"
BEHIND = {
    "DIDACTOR_HTTPS": "1",
    "DIDACTOR_HOSTS": NAME,
    "DIDACTOR_ORIGINS": f"https://{NAME}",
    "DIDACTOR_PROXIES": "1",
    "DIDACTOR_PROXY_MEDIA": "/kept/",
    "DIDACTOR_WEAK_SANDBOX": "1",
    "DIDACTOR_METRICS_TOKEN": "known",
}


class Outside(Browser):
    """Somebody's browser in front of the proxy."""

    def __init__(self, port: int, person: Person) -> None:
        super().__init__([], person)
        self.port = port

    def ask(self, method: str, path: str, body: bytes = b"", **headers: str) -> tuple[int, dict[str, str], bytes]:
        line = http.client.HTTPSConnection("127.0.0.1", self.port, timeout=30, context=ssl._create_unverified_context())
        own = {"Host": NAME, "Origin": f"https://{NAME}", "Cookie": self.cookies, "X-CSRFToken": "a" * 32}
        line.request(method, path, body, own | {name.replace("_", "-"): value for name, value in headers.items()})
        answer = line.getresponse()
        content = answer.read()
        line.close()
        return answer.status, {name.title(): value for name, value in answer.headers.items()}, content


def configured(webs: list[Host], files: str, store_port: int, plain: int, secure: int) -> Path:
    """The documentation's configuration for this machine."""
    found = re.search(r"```nginx\n(.*?)```", (ROOT / "docs" / "operation.md").read_text(), re.S)
    assert found is not None
    text = found[1]
    if files == "store":
        text = re.sub(r"\n  location /kept/ \{ internal; alias [^\n]*", "", text).replace("  # location /kept/", "  location /kept/")
    for written, here in (
        ("10.0.0.11:8000", f"127.0.0.1:{webs[0].port}"),
        ("10.0.0.12:8000", f"127.0.0.1:{webs[1].port}"),
        ("listen 443", f"listen 127.0.0.1:{secure}"),
        ("listen 80", f"listen 127.0.0.1:{plain}"),
        ("/etc/ssl/school", f"{FOLDER}/school"),
        ("/srv/didactor/var/media/", f"{FOLDER}/media/"),
        ("https://store.example", f"http://127.0.0.1:{store_port}"),
        ("store.example", f"127.0.0.1:{store_port}"),
    ):
        text = text.replace(written, here)
    kept = " ".join(f"{what}_temp_path {FOLDER}/nginx-{what};" for what in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi"))
    user = "user root;" if os.geteuid() == 0 else ""
    path = FOLDER / f"nginx-{files}.conf"
    path.write_text(
        f"{user} daemon off; pid {FOLDER}/nginx.pid; error_log {FOLDER}/nginx.log;\nevents {{}}\nhttp {{ access_log off; {kept}\n{text}}}\n"
    )
    return path


def tried(files: str, task: Task, other: Person, store_port: int, hosts: list[Host]) -> dict[str, bool]:
    store = {
        "DIDACTOR_STORE": "s3://recordings/school",
        "DIDACTOR_STORE_ADDRESS": f"http://127.0.0.1:{store_port}",
        "DIDACTOR_STORE_KEY": "testing",
        "DIDACTOR_STORE_SECRET": "testing",
    }
    more = BEHIND | (store if files == "store" else {})
    webs = [Host(f"{files}-web{k}", *SERVE, folder=FOLDER, DIDACTOR_WEB="1", **more) for k in range(2)]
    plain, secure = free_port(), free_port()
    nginx = Host(f"{files}-nginx", "nginx", "-c", str(configured(webs, files, store_port, plain, secure)), folder=FOLDER)
    worker = Host(f"{files}-worker", PYTHON, str(ROOT / "manage.py"), "work", folder=FOLDER, **more)
    hosts += [*webs, nginx, worker]
    until(lambda: all(map(answers, (webs[0].port, webs[1].port, plain, secure))), 60)
    student, another = Outside(secure, task.student), Outside(secure, other)

    line = http.client.HTTPConnection("127.0.0.1", plain, timeout=30)
    line.request("GET", "/stand/", headers={"Host": NAME})
    led = line.getresponse()
    held = {"http leads to https": (led.status, led.headers["Location"]) == (301, f"https://{NAME}/stand/")}
    status, headers, _ = student.ask("GET", "/stand/")
    held["pages come, over https from now on"] = status == 200 and "max-age" in headers.get("Strict-Transport-Security", "")
    student.send(task, wav(seed=1))
    until(lambda: Take.objects.filter(task=task, state=TakeState.ANALYSED).exclude(playback="").exists(), 120)
    take = Take.objects.get(task=task)
    held["a recording goes through in pieces and is heard"] = take.size == len(wav(seed=1))
    address = f"/takes/{take.pk}/sound/"
    status, headers, whole = student.ask("GET", address)
    held["its sound comes whole, of its kind, kept by nobody on the way"] = (
        (status, headers.get("Content-Type"), headers.get("Cache-Control")) == (200, "audio/mp4", "private, max-age=3600")
        and len(whole) > 1000
        and b"ftyp" in whole[:16]
    )
    status, headers, part = student.ask("GET", address, Range="bytes=100-199")
    held["a range is that range"] = (status, part, headers.get("Content-Range")) == (206, whole[100:200], f"bytes 100-199/{len(whole)}")
    status, _, part = student.ask("GET", address, Range="bytes=-5")
    held["a range from the end"] = (status, part) == (206, whole[-5:])
    held["a range outside is refused"] = student.ask("GET", address, Range=f"bytes={len(whole)}-")[0] == 416
    held["nginx sent it: the application's answer has no body"] = "X-Accel-Redirect" not in headers and "Server-Timing" not in headers
    held["no other site may ask for it"] = "Access-Control-Allow-Origin" not in headers
    held["another student gets nothing"] = another.ask("GET", address)[0] == 404
    inside = f"/kept/recordings/school/{take.playback.name}" if files == "store" else f"/kept/{take.playback.name}"
    held["nobody gets at the files by their names"] = {
        student.ask("GET", path)[0] for path in (inside, "/kept/", "/kept/../kept/" + take.playback.name, "//kept/" + take.playback.name)
    } == {404}
    held["figures for Prometheus are not for outside"] = student.ask("GET", "/metrics/", Authorization="Bearer known")[0] == 403
    webs[0].kill()
    held["one web host gone, the other answers"] = (
        {student.ask("GET", "/stand/")[0] for _ in range(6)} == {200} == {another.ask("GET", "/stand/")[0] for _ in range(6)}
    )
    for host in hosts:
        if host.is_up:
            host.kill()
    return {f"{what}, files in a {files}": good for what, good in held.items()}


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    if shutil.which("nginx") is None:
        print("nginx is not there: apt-get install nginx-light", file=sys.stderr)
        return 2
    setup_test_environment()
    store_port = free_port()
    signed = ["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", f"/CN={NAME}"]
    subprocess.run(
        ["openssl", *signed, "-keyout", str(FOLDER / "school.key"), "-out", str(FOLDER / "school.pem")], check=True, capture_output=True
    )
    databases = setup_databases(verbosity=0, interactive=False)
    hosts: list[Host] = []
    held: dict[str, bool] = {}
    try:
        scene = scenes.build(listen_first=False)
        with object_store(store_port):
            for files in ("folder", "store"):
                held |= tried(files, scenes.another(scene, f"With a {files}"), scene.ossian.student, store_port, hosts)
    finally:
        for host in hosts:
            if host.is_up:
                host.kill()
        end_sessions()
        teardown_databases(databases, verbosity=0)
    shutil.rmtree(FOLDER, ignore_errors=True)
    rows = ["| tried | held |", "|---|---|", *(f"| {what} | {'yes' if good else '**no**'} |" for what, good in held.items())]
    return close("proxy", "\n".join(rows), {"tried": len(held), "not_held": sum(not good for good in held.values())}, write=options.write)


if __name__ == "__main__":
    sys.exit(main())
