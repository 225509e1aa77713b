"""The command that opens the page."""

from __future__ import annotations

import secrets
import socket
import subprocess
import threading
from pathlib import Path
from typing import Any

import typer

from jokulmist.child_processes import start_child
from jokulmist.command.listening import LOOPBACK, listening_at


def live(folder: Path, host: str, port: int, workers: int, look: bool, token: str | None) -> None:
    import uvicorn

    from jokulmist.errors import SettingError
    from jokulmist.live.app import Live
    from jokulmist.live.safety import Guarded, address
    from jokulmist.web import LOOPBACK as HOSTS

    if workers < 0:
        raise SettingError(f"`--workers` must be a whole number from 0 on; got {workers}.")
    if token is not None and len(token) < 16:
        raise SettingError("`--token` must have at least 16 characters; leave it out, and one is made.")
    token = token or secrets.token_urlsafe(24)
    listening = listening_at(host, port)
    shown_port = listening.getsockname()[1]
    hosts = HOSTS if host in LOOPBACK else (*HOSTS, host, socket.gethostname())
    page = Live(folder, look, None if workers == 0 else WorkerBeside(folder, workers))
    if not look and workers:
        threading.Thread(target=page.tend, daemon=True).start()
    if host not in LOOPBACK:
        typer.echo(
            "Other machines can reach this port: whoever has the address below can have your runs trained and their "
            "code run.",
            err=True,
        )
    typer.echo(f"{folder} at {address(host, shown_port, token)}")
    typer.echo(
        "It can start nothing (--look). Ctrl-C ends the page."
        if look
        else "Ctrl-C ends the page; what is being trained goes on.",
        err=True,
    )

    class PageServer(uvicorn.Server):
        def handle_exit(self, sig: int, frame: Any) -> None:
            page.end()
            super().handle_exit(sig, frame)

    server = PageServer(
        uvicorn.Config(
            Guarded(page.app(), token, shown_port, hosts),
            log_level="warning",
            access_log=False,
            lifespan="off",
            timeout_graceful_shutdown=1,
        )
    )
    server.run(sockets=[listening])


class WorkerBeside:
    """A worker of its own process beside the page: it begins where something waits, ends when nothing does, and
    outlives the page."""

    def __init__(self, folder: Path, workers: int) -> None:
        self._folder, self._workers = folder, workers
        self._process: subprocess.Popen[bytes] | None = None

    def __call__(self) -> None:
        if self._process is not None and self._process.poll() is None:
            return
        options = ("--workers", str(self._workers), "--until-empty", "--alone")
        self._process = start_child("jokulmist", "queue", "work", "--folder", str(self._folder.resolve()), *options)
