"""The command that puts policies behind a port."""

from __future__ import annotations

import secrets
import socket
from pathlib import Path

import typer

from jokulmist.command.listening import LOOPBACK, listening_at


def serve(paths: list[Path], host: str, port: int, token: str | None, player: str | None) -> None:
    import uvicorn

    from jokulmist.errors import SettingError
    from jokulmist.running.runs.run import Run
    from jokulmist.serving.app import app_of
    from jokulmist.serving.decisions import Decider

    runs = [Run.open(path) for path in paths]
    names = [run.name for run in runs]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice is not None:
        raise SettingError(f"two runs are named {twice}. Give each once.")
    deciders = {}
    for run in runs:
        policy = run.policy
        deciders[run.name] = Decider(policy if player is None else policy.player(player))
    if token is None and host not in LOOPBACK:
        token = secrets.token_urlsafe(24)
        typer.echo(f"other machines can reach this port, so it asks for a token: {token}")
    listening = listening_at(host, port)
    # What is accepted here inherits it: an answer is not to wait until the one before it has been acknowledged.
    listening.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    for decider in deciders.values():
        decider.warm_up()
    shown_port = listening.getsockname()[1]
    typer.echo(
        f"{', '.join(deciders)} at http://{host}:{shown_port}/decide (POST); http://{host}:{shown_port}/openapi.json "
        "describes "
        "it. Ctrl-C ends it."
    )
    server = uvicorn.Server(
        uvicorn.Config(
            app_of(deciders, token), log_level="warning", access_log=False, lifespan="off", ws="websockets-sansio"
        )
    )
    server.run(sockets=[listening])
