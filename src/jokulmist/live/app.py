"""The server of the page: what it shows as JSON, what changes as events, and what it lets people do."""

from __future__ import annotations

import asyncio
import contextlib
import os
import signal
import threading
import time
from collections.abc import AsyncIterator, Callable
from functools import partial
from importlib.resources import files as package_files
from pathlib import Path
from typing import Any

from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.requests import Request
from starlette.responses import FileResponse, Response, StreamingResponse
from starlette.routing import Route

from jokulmist.errors import JokulmistError, LookupFailed, SettingError, listed
from jokulmist.live import forms, labels, views
from jokulmist.live.folder import RunFolder, job_as_json
from jokulmist.live.games import Games
from jokulmist.plain_files import plain_file
from jokulmist.records.lock import holding_process
from jokulmist.running.runs.run import Run
from jokulmist.running.session.queued_runs import queue_runs
from jokulmist.studies.search.candidates import is_search
from jokulmist.web import Answer, Refused, as_json, body_of, dumped, error_response, with_errors
from jokulmist.work.jobs import OPTIONS

LOOK_SECONDS = 0.7
TEND_SECONDS = 2.0
STILL_SECONDS = 15.0
MOST_BYTES = 1 << 20
PAGE = (
    "index.html",
    "live.css",
    "main.js",
    "table.js",
    "run.js",
    "compare.js",
    "form.js",
    "play.js",
    "steps.js",
    "search.js",
    "tools.js",
    "queue.js",
)
REPORTS = ("charts.js", "report.css")  # the report's own files, which draw here, too
KINDS = {"html": "text/html; charset=utf-8", "css": "text/css; charset=utf-8", "js": "text/javascript; charset=utf-8"}
FOLDER_VERBS = ("label", "rename", "bin")
VERBS = (*OPTIONS, "stop", *FOLDER_VERBS)
JOB_VERBS = ("pause", "resume", "stop", "drop", "first", "move_up", "move_down", "accept")
_DRAWING = threading.Lock()


class Live:
    """A folder of runs behind a page."""

    def __init__(self, folder: Path, look: bool = False, begin_work: Callable[[], None] | None = None) -> None:
        self.folder, self.look, self.begin_work = RunFolder(folder), look, begin_work or (lambda: None)
        self.games = Games(folder)
        self._listening: set[asyncio.Queue[Any]] = set()
        self._task: asyncio.Task[None] | None = None
        self._rows: dict[str, Any] = {}
        self._jobs: Any = None

    # What changes.

    async def events(self, request: Request) -> Response:
        return StreamingResponse(self._stream(), media_type="text/event-stream")

    async def _stream(self) -> AsyncIterator[str]:
        queue: asyncio.Queue[Any] = asyncio.Queue(maxsize=64)
        self._listening.add(queue)
        if self._task is None or self._task.done():
            self._task = asyncio.create_task(self._watch())
        try:
            yield "retry: 1500\n\n"
            while True:
                try:
                    change = await asyncio.wait_for(queue.get(), STILL_SECONDS)
                except TimeoutError:
                    yield ": still here\n\n"
                    continue
                if change is None:
                    return
                yield f"data: {dumped(change).decode()}\n\n"
        finally:
            self._listening.discard(queue)

    def end(self) -> None:
        """End the streams of events, so that the server need not break them off."""
        for queue in list(self._listening):
            while queue.full():
                queue.get_nowait()
            queue.put_nowait(None)

    async def _watch(self) -> None:
        """Look at the folder while somebody listens, and tell what has changed."""
        while self._listening:
            try:
                rows, jobs = await run_in_threadpool(self._look)
            except JokulmistError:
                await asyncio.sleep(LOOK_SECONDS)
                continue
            changed = [row for name, row in rows.items() if self._rows.get(name) is not row]
            gone = [name for name in self._rows if name not in rows]
            change: dict[str, Any] = {}
            if changed or gone:
                change.update(rows=changed, gone=gone)
            if jobs != self._jobs:
                change["jobs"] = jobs
            self._rows, self._jobs = rows, jobs
            if change:
                for queue in list(self._listening):
                    if queue.full():  # a page that does not listen begins again
                        while not queue.empty():
                            queue.get_nowait()
                        queue.put_nowait({"again": True})
                    else:
                        queue.put_nowait(change)
            await asyncio.sleep(LOOK_SECONDS)

    def _look(self) -> tuple[dict[str, Any], Any]:
        return self.folder.look(), self.folder.jobs()

    def tend(self) -> None:
        """See that a worker is there whenever something waits, whether somebody looks or not; never returns."""
        while True:
            with contextlib.suppress(JokulmistError):
                if any(job.ready for job in self.folder.queue.jobs()):
                    self.begin_work()
            time.sleep(TEND_SECONDS)

    # What is shown.

    async def everything(self, request: Request) -> Response:
        """All rows, or with ``newest`` those of the newest runs alone, and how many there are."""
        newest = request.query_params.get("newest", "")
        if newest.isdecimal() and int(newest):
            rows, count = await run_in_threadpool(self.folder.look_at_newest, int(newest))
            jobs = await run_in_threadpool(self.folder.jobs)
        else:
            rows, jobs = await run_in_threadpool(self._look)
            count = len(rows)
            if not self._listening:  # who listens is told what changes from here on
                self._rows, self._jobs = rows, jobs
        searches = await run_in_threadpool(self.folder.searches)
        return as_json(
            {
                "folder": str(self.folder.path),
                "look": self.look,
                "rows": list(rows.values()),
                "count": count,
                "jobs": jobs,
                "searches": searches,
                "kept": self.games.names(),
            }
        )

    async def run(self, request: Request) -> Response:
        path = self.folder.run(request.path_params["name"])
        detail = await run_in_threadpool(views.detail, path, not self.look)
        return as_json({**detail, "labels": labels.labels_of(path).model_dump(mode="json")})

    async def compare(self, request: Request) -> Response:
        request_body = await object_in(request)
        names = texts_in(request_body, "runs")
        controls = {name: request_body[name] for name in ("score", "over", "weights") if request_body.get(name)}
        if not all(isinstance(value, str) for value in controls.values()):
            raise SettingError("`score`, `over` and `weights` are texts.")
        question = views.Question(tuple(texts_in(request_body, "by")), **controls)
        paths = [self.folder.run(name) for name in dict.fromkeys(names)]
        return as_json(await run_in_threadpool(views.compared, paths, question, not self.look))

    async def search(self, request: Request) -> Response:
        self._refuse_look()
        name = request.path_params["name"]
        if name not in self.folder.searches() or not is_search(self.folder.path / name):
            raise LookupFailed(f"there is no search {name!r:.80} in {self.folder.path}.")
        return as_json(await run_in_threadpool(views.search, self.folder.path / name))

    async def episode(self, request: Request) -> Response:
        scene, environment = await self._episode(request)
        return as_json(await run_in_threadpool(views.told_episode, scene.rollout, environment))

    async def _episode(self, request: Request) -> Any:
        """A recorded episode of a run, or one that was kept, and its environment."""
        self._refuse_look()
        name = request.path_params["name"]
        if request.path_params["of"] == "kept":
            return await run_in_threadpool(self.games.kept_scene, name, self.folder.run)
        return await run_in_threadpool(views.recorded, self.folder.run(name), request.path_params["which"])

    async def moment(self, request: Request) -> Response:
        scene, _ = await self._episode(request)
        number = whole_number(request.path_params["moment"])
        if number > scene.rollout.steps:
            raise LookupFailed(f"the episode has the moments 0 to {scene.rollout.steps}; got {number}.")
        if request.path_params["of"] != "run":
            return as_json({})
        path = self.folder.run(request.path_params["name"])
        return as_json(await run_in_threadpool(views.policy_outputs, path, scene.rollout, number))

    async def picture(self, request: Request) -> Response:
        scene, environment = await self._episode(request)
        return await picture_response(
            lambda: views.picture(scene, environment, whole_number(request.path_params["moment"]))
        )

    async def replay(self, request: Request) -> Response:
        """An episode of the policy as it began, or as it is: drawn on request."""
        self._refuse_look()
        path, name = self.folder.run(request.path_params["name"]), request.path_params["which"]
        if name not in ("early", "late"):
            raise LookupFailed(f"a replay is early or late; got {name!r:.40}.")
        data = await run_in_threadpool(replayed, path, name)
        return Response(data, media_type="image/gif")

    async def report(self, request: Request) -> Response:
        path = plain_file(self.folder.run(request.path_params["name"]) / "report.html")
        if not path.is_file():
            raise LookupFailed("there is no report of this run yet.")
        # In a place of its own: what a report holds can ask nothing of this page.
        return FileResponse(
            path, headers={"Content-Security-Policy": "sandbox allow-scripts; default-src 'unsafe-inline' data:"}
        )

    # What can be done.

    async def act(self, request: Request) -> Response:
        self._refuse_look()
        request_body, verb = await object_in(request), request.path_params["verb"]
        name = request.path_params["name"]
        path = self.folder.run(name)
        if verb not in VERBS:
            raise LookupFailed(f"a run can be asked to {listed(VERBS)}; got {verb!r:.40}.")
        if verb == "stop":
            return as_json(await run_in_threadpool(self._stop, path))
        if verb in FOLDER_VERBS:
            return as_json(await run_in_threadpool(self._arrange, verb, path, request_body))
        number = await run_in_threadpool(partial(self.folder.queue.add, verb, name, **request_body))
        self.begin_work()
        return as_json(job_as_json(self.folder.queue.job(number)))

    def _arrange(self, verb: str, path: Path, request_body: dict[str, Any]) -> dict[str, Any]:
        """Label a run, give it another name, or move it to the bin."""
        if verb == "label":
            return labels.write_labels(path, request_body).model_dump(mode="json")
        if verb == "rename":
            return {"run": labels.rename(path, request_body.get("name"), self.folder.queue).name}
        return {"told": f"{path.name} is in {labels.move_to_bin(path, self.folder.queue)}"}

    def _stop(self, path: Path) -> dict[str, Any]:
        """Stop a run cleanly, whoever trains it on this machine."""
        queue = self.folder.queue
        for job in queue.jobs():
            if job.run == path.name and job.status in ("working", "waiting", "paused"):
                return {"told": f"job {job.id} is asked to stop", "job": job_as_json(queue.stop(job.id))}
        process = holding_process(path)
        if process is None:
            raise SettingError(f"{path.name} is not being trained on this machine.")
        os.kill(process, signal.SIGINT)
        return {"told": f"process {process} is asked to stop"}

    async def job(self, request: Request) -> Response:
        self._refuse_look()
        verb, number = request.path_params["verb"], whole_number(request.path_params["number"])
        if verb not in JOB_VERBS:
            raise LookupFailed(f"a job can be asked to {listed(JOB_VERBS)}; got {verb!r:.40}.")
        job = await run_in_threadpool(getattr(self.folder.queue, verb), number)
        self.begin_work()
        return as_json(job_as_json(job))

    async def choices(self, request: Request) -> Response:
        self._refuse_look()

        def listing() -> dict[str, Any]:
            rows = self.folder.look().values()
            return forms.choices(Path.cwd(), {row["environment"]: self.folder.path / row["run"] for row in rows})

        return as_json(await run_in_threadpool(listing))

    async def plan(self, request: Request) -> Response:
        """What a run was asked for, to be changed and asked again."""
        path = self.folder.run(request.path_params["name"])
        return as_json(await run_in_threadpool(forms.content_of, path, Path.cwd()))

    def _base(self, request_body: dict[str, Any]) -> Path:
        """Where code is looked for: the working folder, or what a run keeps."""
        name = request_body.get("code_of") or ""
        return self.folder.run(name) if name else Path.cwd()

    def _origin(self, request_body: dict[str, Any]) -> Any:
        """The content of the plan that a form began with."""
        name = request_body.get("origin")
        return forms.content_of(self.folder.run(name), Path.cwd())["sections"] if name else {}

    async def fields(self, request: Request) -> Response:
        self._refuse_look()
        request_body = await object_in(request)
        use, method = (request_body.get(name, "") for name in ("environment", "method"))
        if not isinstance(use, str) or not isinstance(method, str):
            raise SettingError("`environment` and `method` are texts.")
        fields: dict[str, Any] = {}
        if use:
            fields["environment"] = await run_in_threadpool(forms.fields_of_environment, use, self._base(request_body))
        if method:
            fields["agent"] = await run_in_threadpool(forms.fields_of_method, method)
        return as_json(fields)

    async def begin(self, request: Request) -> Response:
        """Check a plan, and queue its runs."""
        self._refuse_look()
        request_body = await object_in(request)
        try:
            return as_json(await run_in_threadpool(self._begin, request_body))
        except JokulmistError as wrong:  # an answer as any other: whoever fills in a form may be mistaken
            problems = await run_in_threadpool(
                forms.problems_of, request_body, self._base(request_body), self._origin(request_body)
            )
            return as_json(
                {"problems": problems or [{"section": "", "name": "", "text": str(wrong)}], "findings": [], "jobs": []}
            )

    def _begin(self, request_body: dict[str, Any]) -> dict[str, Any]:
        plan = forms.plan_from(request_body, self._base(request_body), self._origin(request_body))
        findings = [] if request_body.get("anyway") else forms.checked(plan)
        if any(finding["level"] == "error" for finding in findings):
            return {"findings": findings, "jobs": []}
        name = request_body.get("name") or None
        if name is not None and not isinstance(name, str):
            raise SettingError(f"`name` is a text; got {name!r:.40}.")
        paths = queue_runs(plan, self.folder.path, name, ["jokulmist", "live"])
        jobs = [self.folder.queue.job(self.folder.queue.add("resume", path.name)) for path in paths]
        self.begin_work()
        return {"findings": findings, "jobs": [job_as_json(job) for job in jobs]}

    # Games.

    async def games_begin(self, request: Request) -> Response:
        self._refuse_look()
        request_body = await object_in(request)
        name = await run_in_threadpool(self.games.begin, request_body, self.folder.run)
        return as_json({"game": name, **await run_in_threadpool(self.games.game(name).as_json)})

    async def game(self, request: Request) -> Response:
        self._refuse_look()
        game, verb = self.games.game(request.path_params["game"]), request.path_params["verb"]
        request_body = await object_in(request)

        def done() -> dict[str, Any]:
            with game.guard:
                if verb == "keep":
                    return {"kept": game.save(self.folder.path)}
                return game.answer(verb, request_body)

        return as_json(await run_in_threadpool(done))

    async def game_picture(self, request: Request) -> Response:
        self._refuse_look()
        game = self.games.game(request.path_params["game"])

        def picture() -> bytes:
            with game.guard:
                return game.picture()

        return await picture_response(picture)

    def _refuse_look(self) -> None:
        if self.look:
            raise Refused("this page was started with `--look`: it starts nothing, and runs no code of an environment.")

    # The page itself.

    async def page(self, request: Request) -> Response:
        name = request.path_params.get("file", "index.html")
        if name not in (*PAGE, *REPORTS):
            return error_response(404, f"there is no {name!r:.60} here.")
        place = (
            package_files("jokulmist.pictures.report") if name in REPORTS else package_files("jokulmist.live") / "page"
        )
        text = place.joinpath(name).read_text(encoding="utf-8")
        if name == "charts.js":  # a part of the report's script there, a module here
            text += "\nexport { Chart, short };\n"
        return Response(text, media_type=KINDS[name.rpartition(".")[2]])

    def app(self) -> Starlette:
        def route(path: str, answer: Answer, *methods: str) -> Route:
            return Route(path, with_errors(answer), methods=list(methods) or ["GET"])

        post = "POST"  # of all that may run code: no link and no image of another page can ask for it
        return Starlette(
            routes=[
                route("/", self.page),
                route("/page/{file}", self.page),
                route("/api/all", self.everything),
                Route("/api/events", self.events),
                route("/api/compare", self.compare, post),
                route("/api/choices", self.choices),
                route("/api/run/{name}/plan", self.plan),
                route("/api/fields", self.fields, post),
                route("/api/begin", self.begin, post),
                route("/api/search/{name}", self.search, post),
                route("/api/run/{name}", self.run, post),
                route("/api/run/{name}/replay/{which}", self.replay, post),
                route("/api/run/{name}/report", self.report),
                route("/api/run/{name}/{verb}", self.act, post),
                route("/api/job/{number}/{verb}", self.job, post),
                route("/api/episode/{of:str}/{name}/{which}", self.episode, post),
                route("/api/episode/{of:str}/{name}/{which}/{moment}/says", self.moment, post),
                route("/api/episode/{of:str}/{name}/{which}/{moment}/picture", self.picture, post),
                route("/api/games", self.games_begin, post),
                route("/api/games/{game}/picture", self.game_picture, post),
                route("/api/games/{game}/{verb}", self.game, post),
            ],
            exception_handlers={404: _nothing, 405: _nothing},
        )


async def _nothing(request: Request, why: Exception) -> Response:
    return error_response(getattr(why, "status_code", 404), f"there is nothing at {request.url.path!r:.80}.")


async def picture_response(make: Callable[[], bytes]) -> Response:
    def one_at_a_time() -> bytes:
        with _DRAWING:
            return make()

    return Response(await run_in_threadpool(one_at_a_time), media_type="image/png")


def replayed(path: Path, name: str) -> bytes:
    """An episode of a run's first or newest policy as a GIF."""
    from tempfile import TemporaryDirectory

    from jokulmist.pictures.replay import save_replay
    from jokulmist.running.runs.scenes import played_scene, untrained

    run = Run.open(path)
    policy = untrained(run) if name == "early" else run.policy

    def make() -> bytes:
        with _DRAWING, TemporaryDirectory() as place:
            scene = played_scene(policy, run.environment, 1, name)
            return save_replay(
                [scene], run.environment, Path(place) / "replay.gif", per_second=8.0, most=48
            ).read_bytes()

    content: bytes = views.EPISODES.get((str(path), "replay", name, policy.decisions), make)
    return content


def texts_in(request_body: dict[str, Any], name: str) -> list[str]:
    texts = request_body.get(name, [])
    if not isinstance(texts, list) or not all(isinstance(text, str) for text in texts):
        raise SettingError(f"`{name}` is a list of texts; got {texts!r:.60}.")
    return texts


def whole_number(text: str) -> int:
    if not text.isdecimal() or len(text) > 15:
        raise SettingError(f"a whole number is asked for; got {text!r:.40}.")
    return int(text)


async def object_in(request: Request) -> dict[str, Any]:
    """The JSON object of a request."""
    content = await body_of(request, MOST_BYTES)
    if not isinstance(content, dict):
        raise SettingError("the body is no JSON object.")
    return content
