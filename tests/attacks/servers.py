"""Servers in processes of their own, on folders and disks of their own."""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import subprocess
import sys
import threading
import urllib.error
import urllib.request
import uuid
from http.cookiejar import CookieJar
from pathlib import Path
from queue import Empty, Queue


def hear_interrupts() -> None:
    """Let what is started from here hear Ctrl-C, though a shell started the tests in the background."""
    if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
        signal.signal(signal.SIGINT, signal.default_int_handler)


class Server:
    """`pondel serve` as a user starts it; `disk_mb` gives it a disk of that size for its data."""

    def __init__(self, data_dir: Path, *, disk_mb: int = 0, env: dict[str, str] | None = None) -> None:
        self.data_dir = data_dir
        data_dir.mkdir(parents=True, exist_ok=True)
        hear_interrupts()
        command = [sys.executable, "-m", "pondel", "serve", "--port", "0", "--data", str(data_dir)]
        if disk_mb:
            mount = f'mount -t tmpfs -o size={disk_mb}m none "$0" && exec "$@"'
            command = [unshare(), "-rm", "sh", "-c", mount, str(data_dir), *command]
        self.process = subprocess.Popen(
            command,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
            env={**os.environ, **(env or {})},
        )
        self.said: list[str] = []
        self._lines: Queue[str | None] = Queue()
        threading.Thread(target=self._read, daemon=True).start()
        self.address = self._wait_for_address()
        self._opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(CookieJar()))
        self.token = ""

    def _read(self) -> None:
        assert self.process.stdout is not None
        for line in self.process.stdout:
            self.said.append(line)
            self._lines.put(line)
        self._lines.put(None)

    def _wait_for_address(self) -> str | None:
        while True:
            try:
                line = self._lines.get(timeout=60)
            except Empty:
                self.kill()
                raise AssertionError(f"never came up: {self.said}") from None
            if line is None:
                return None
            found = re.search(r"http://127\.0\.0\.1:\d+", line)
            if found:
                return found[0]

    def get(self, path: str) -> tuple[int, bytes]:
        return self._ask(urllib.request.Request(f"{self.address}{path}"))

    def post(self, path: str, body: dict) -> tuple[int, bytes]:
        data = json.dumps(body).encode()
        return self._ask(self._request(path, data, "application/json"))

    def upload(self, path: str, name: str, content: bytes) -> tuple[int, bytes]:
        mark = uuid.uuid4().hex
        head = f'--{mark}\r\nContent-Disposition: form-data; name="file"; filename="{name}"\r\n\r\n'
        data = head.encode() + content + f"\r\n--{mark}--\r\n".encode()
        return self._ask(self._request(path, data, f"multipart/form-data; boundary={mark}"))

    def _request(self, path: str, data: bytes, kind: str) -> urllib.request.Request:
        if not self.token:
            page = self.get("/sessions")[1].decode()
            self.token = re.search(r'name="csrf" content="([^"]+)"', page)[1]
        headers = {"X-CSRFToken": self.token, "Content-Type": kind}
        return urllib.request.Request(f"{self.address}{path}", data, headers)

    def _ask(self, request: urllib.request.Request) -> tuple[int, bytes]:
        try:
            with self._opener.open(request, timeout=60) as answer:
                return answer.status, answer.read()
        except urllib.error.HTTPError as error:
            return error.code, error.read()

    def inside(self, path: Path) -> Path:
        """A path of the server's own disk as it is reached from here."""
        return Path(f"/proc/{self.process.pid}/root{path}")

    def kill(self) -> None:
        """End it as a power cut would."""
        self.process.send_signal(signal.SIGKILL)
        self.process.wait(30)

    def stop(self) -> int:
        """End it as a user does."""
        if self.process.poll() is None:
            self.process.send_signal(signal.SIGINT)
        return self.process.wait(60)


def unshare() -> str:
    """The program that gives a process disks of its own (util-linux)."""
    found = shutil.which("unshare")
    assert found, "these tests need `unshare` of util-linux"
    return found
