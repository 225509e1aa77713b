"""The command ``jokulmist``: its commands, and how mistakes and interruptions end."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Annotated

import typer

from jokulmist.command.application import DONE, FAILED, INTERRUPTED, WRONG_WORDS, app
from jokulmist.command.ending import begin, let_run, was_interrupted
from jokulmist.command.options import AsJson, Current, Dry, Env, Folder, Queued, RunFolder, Set, Trust, With
from jokulmist.errors import (
    DeclarationError,
    JokulmistError,
    LookupFailed,
    SettingError,
    UntrustedCode,
)


@app.callback(invoke_without_command=True)
def root(
    context: typer.Context,
    version: Annotated[bool, typer.Option("--version", help="Print the version and exit.")] = False,
) -> None:
    if version:
        from jokulmist import __version__

        typer.echo(f"jokulmist {__version__}")
        raise typer.Exit(DONE)


@app.command()
def tour(folder: Folder = Path("runs")) -> None:
    """A full example on the shipped data, in a minute or two: check, train, evaluate, compare, pictures.

    Example:  jokulmist tour
    """
    from jokulmist.command.tour import tour as work

    work(folder)


@app.command()
def gallery(json: AsJson = False) -> None:
    """The shipped environments, a line each.

    Example:  jokulmist gallery
    """
    from jokulmist.command.looking import gallery as work

    work(json)


@app.command()
def new(
    file: Annotated[Path, typer.Argument(metavar="FILE", help="The Python file to write, e.g. pond.py.")],
    kind: Annotated[
        str | None,
        typer.Option(help="table, numbers, images, players, simulator or remote; asked for in a terminal, else table."),
    ] = None,
) -> None:
    """Write a small environment that checks and trains, a plan for it and a test, to start from.

    Example:  jokulmist new sauna.py --kind numbers
    """
    from jokulmist.command.starting import new as work

    work(file, kind)


@app.command()
def check(
    environment: Env,
    set_: Set = None,
    steps: Annotated[int, typer.Option(help="How many steps random play takes.")] = 3000,
    show: Annotated[int | None, typer.Option(metavar="N", help="Print N steps as a table instead of checking.")] = None,
    policy: Annotated[
        str, typer.Option(help="Who plays those steps: random, a reference, or the folder of a run.")
    ] = "random",
    seed: Annotated[int, typer.Option(help="Seed of the first episode that is printed.")] = 0,
    solve: Annotated[
        bool, typer.Option("--solve", help="Compute the best that can be done, exactly, instead of checking.")
    ] = False,
    discount: Annotated[float, typer.Option(help="With --solve: what a reward one decision later counts.")] = 1.0,
    limit: Annotated[
        bool, typer.Option("--limit/--no-limit", help="With --solve: whether a time limit ends what counts.")
    ] = True,
    to: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="With --solve: also write every state with its best action, as CSV."),
    ] = None,
    json: AsJson = False,
) -> None:
    """Look for mistakes in an environment, and say how to fix each. Status 1 when there is an error. With --solve, the
    best that can be done where states can be counted; curves and evaluations show it from then on.

    Example:  jokulmist check pond.py:Pond --show 10      jokulmist check tarn-whole --solve --to best.csv
    """
    from jokulmist.command import looking

    if show is not None and solve:
        raise SettingError("`--show` and `--solve` go one at a time.")
    if show is not None:
        looking.show_steps(environment, show, policy, seed, json, set_ or [])
    elif solve:
        looking.solve(environment, set_ or [], discount, limit, to, json)
    elif not looking.check(environment, steps, json, set_ or []):
        raise typer.Exit(FAILED)


@app.command()
def play(
    environment: Annotated[
        str | None,
        typer.Argument(metavar="ENV", help="An environment, as for check. Leave it out with --policy."),
    ] = None,
    policy: Annotated[
        Path | None, typer.Option(metavar="RUN", help="A run; its policy plays until you take over.")
    ] = None,
    set_: Set = None,
    seed: Annotated[int, typer.Option(help="Seed of the first episode.")] = 0,
    folder: Annotated[Path, typer.Option(help="The folder for episodes that you save.")] = Path("rollouts"),
    player: Annotated[str | None, typer.Option(help="Which of several players you play.")] = None,
    with_: With = None,
    current: Current = False,
    trust: Trust = False,
) -> None:
    """Play an environment in the terminal, or watch a policy, take over and hand back. Of several players you may play
    one.

    Example:  jokulmist play ferry      jokulmist play --policy runs/ferry-ppo-001      jokulmist play haul --player
    north --with south=runs/haul-ppo-001
    """
    from jokulmist.command.looking import play as work

    work(environment, policy, seed, folder, current, set_ or [], player, with_ or [])


@app.command()
def train(
    plan: Annotated[Path, typer.Argument(metavar="PLAN.toml", help="What to train, as TOML.")],
    set_: Set = None,
    folder: Folder = Path("runs"),
    name: Annotated[str | None, typer.Option(help="The name of the run; by default the next free one.")] = None,
    workers: Annotated[
        int | None, typer.Option(help="Number of processes that train the seeds; by default one a core.")
    ] = None,
    dry: Dry = False,
    queue: Queued = False,
    json: AsJson = False,
) -> None:
    """Train one run, or one a seed. Ctrl-C ends it cleanly, with everything saved.

    Example:  jokulmist train pond.toml --set agent.exploration=0.1 --set training.seeds=[0,1,2]

    A plan:  [environment] use = "tarn"   [agent] use = "QLearning"   [training] steps = 200_000
    """
    from jokulmist.command.training import train as work

    if queue:
        from jokulmist.command.queueing import train_later

        if dry or workers is not None:
            raise SettingError(
                "`--queue` goes without `--dry` and `--workers`: how many are trained at a time is said by "
                "`jokulmist queue work --workers`."
            )
        train_later(plan, set_ or [], folder, name, json)
        return
    stopped = work(plan, set_ or [], folder, name, workers, dry, json)
    raise typer.Exit(INTERRUPTED if stopped else DONE)


@app.command()
def resume(
    run: Annotated[Path, typer.Argument(metavar="RUN", help="The folder of a run or of a search.")],
    steps: Annotated[int, typer.Option(help="Decisions to train beyond the plan.")] = 0,
    episodes: Annotated[int, typer.Option(help="Episodes to train beyond the plan.")] = 0,
    with_: Annotated[
        list[str] | None,
        typer.Option(
            "--with",
            metavar="PLAYER=RUN",
            help=(
                "A run, or `random`, that plays one of the players from now on: a new run begins with what this one "
                "has learned. Repeat it; several of one player take turns."
            ),
        ),
    ] = None,
    name: Annotated[
        str | None,
        typer.Option(help="With --with: the name of the new run; by default the next free one."),
    ] = None,
    workers: Annotated[int | None, typer.Option(help="For a search: the number of worker processes.")] = None,
    cluster: Annotated[
        str | None,
        typer.Option(metavar="ADDRESS", help="For a search: the address of a Dask scheduler."),
    ] = None,
    take_over: Annotated[
        bool, typer.Option("--take-over", help="Go on although the record says that another machine is training it.")
    ] = False,
    start_over: Annotated[
        bool,
        typer.Option(
            "--start-over",
            help="Train from the beginning if no checkpoint can be read; what was recorded is put aside.",
        ),
    ] = False,
    json: AsJson = False,
    trust: Trust = False,
) -> None:
    """Go on with a run, or a search, that was stopped or killed, to the numbers of one that was never stopped. With
    --with, go on beside other partners as a new run, and see how the players who learn did with them before and after.

    Example:  jokulmist resume runs/tarn-qlearning-001      jokulmist resume runs/tarn-qlearning-001 --steps 100_000
    jokulmist resume runs/haul-ppo-001 --with south=runs/haul-ppo-002 --steps 50_000
    """
    from jokulmist.command.adapting import adapt
    from jokulmist.command.again import resume as work
    from jokulmist.command.tuning import resume as resume_run
    from jokulmist.studies.search.candidates import is_search

    if is_search(run) and (steps or episodes):
        raise SettingError(
            "`--steps` and `--episodes` are for a run; how long the candidates of a search train is in its plan."
        )
    if name is not None and not with_:
        raise SettingError("`--name` names the new run of `--with`; a run that goes on keeps its name.")
    if with_ and (workers or cluster or take_over or start_over):
        raise SettingError(
            "`--with` makes a new run: it goes without `--workers`, `--cluster`, `--take-over` and `--start-over`."
        )
    stopped = (
        adapt(run, with_, steps, episodes, name, json)
        if with_
        else resume_run(run, workers, cluster, json)
        if is_search(run)
        else work(run, steps, episodes, take_over, start_over, json)
    )
    raise typer.Exit(INTERRUPTED if stopped else DONE)


@app.command()
def redo(
    run: RunFolder,
    folder: Annotated[
        Path | None,
        typer.Option(help="The folder of the new run; by default that of the run."),
    ] = None,
    json: AsJson = False,
    trust: Trust = False,
) -> None:
    """Do a run again from its record, and say whether the episodes came out the same. Status 1 where they did not.

    Example:  jokulmist redo runs/tarn-qlearning-001
    """
    from jokulmist.command.again import redo as work

    same, stopped = work(run, folder, json)
    raise typer.Exit((INTERRUPTED if stopped else DONE) if same else FAILED)


@app.command()
def evaluate(
    runs: Annotated[
        list[Path], typer.Argument(metavar="RUN...", help="The folder of a run; of several runs with players, each.")
    ],
    episodes: Annotated[int, typer.Option(help="Number of evaluation episodes, of each pairing.")] = 100,
    seed: Annotated[
        int, typer.Option(help="Seed of the evaluation episodes. Use the same one for everything that you compare.")
    ] = 0,
    act: Annotated[
        str | None,
        typer.Option(help="How policies act: greedy or sampled; by default greedy, and sampled among several runs."),
    ] = None,
    checkpoint: Annotated[
        str, typer.Option(metavar="WHICH", help="Which policy: last, best, or the decisions of a checkpoint.")
    ] = "last",
    record: Annotated[int, typer.Option(help="Number of episodes to record step by step.")] = 0,
    over: Annotated[
        list[str] | None,
        typer.Option(
            metavar="PARAMETER=V,V,...", help="Evaluate at each of these values of a parameter. Give it once or twice."
        ),
    ] = None,
    map_: Annotated[
        str | None,
        typer.Option(
            "--map", metavar="CHANNEL,CHANNEL", help="Draw the greedy action and the value over two channels."
        ),
    ] = None,
    with_: With = None,
    queue: Annotated[
        bool, typer.Option("--queue", help="Several runs: let it wait for a worker (see `jokulmist queue work`).")
    ] = False,
    rate: Annotated[
        bool,
        typer.Option(
            "--rate",
            help="Several runs: rate policies by who got more, also where no player loses what the other gets.",
        ),
    ] = False,
    to: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="Several runs: file of the figure; by default cross-play.png beside them."),
    ] = None,
    current: Current = False,
    json: AsJson = False,
    trust: Trust = False,
) -> None:
    """Episodes without exploration: mean, spread and interval, beside random play and the references. Policies of
    several runs with players play with each other: do those trained together do better than exchanged ones?

    Example:  jokulmist evaluate runs/tarn-qlearning-001 --checkpoint best      ... --over melt=0.5,1,2,4      ...
    --with south=runs/haul-ppo-002      jokulmist evaluate runs/haul-ppo-00*
    """
    from jokulmist.command import training
    from jokulmist.command.crossing import crossplay, crossplay_later

    run = runs[0]
    if len(runs) > 1:
        if map_ or over or with_ or record or current or checkpoint != "last":
            raise SettingError(
                "several runs play with each other: that goes without `--map`, `--over`, `--with`, `--record`, "
                "`--current` and `--checkpoint`. To compare what several runs reach use `jokulmist compare`."
            )
        if queue:
            if act or to or rate:
                raise SettingError("`--queue` goes without `--act`, `--to` and `--rate`.")
            crossplay_later(runs, episodes, seed, json)
            return
        crossplay(runs, episodes, seed, act or "sampled", to, rate, json)
        return
    if rate or queue or to is not None:
        raise SettingError(
            "`--rate`, `--queue` and `--to` are for several runs, which play with each other; give two or more."
        )
    act = act or "greedy"
    if map_ is not None:
        training.policy_map(run, map_, checkpoint, current)
    elif over:
        training.evaluate_grid(run, over, episodes, seed, act, json, current)
    else:
        training.evaluate(run, episodes, seed, act, checkpoint, record, json, current, with_ or [])


@app.command()
def replay(
    run: RunFolder,
    recorded: Annotated[
        list[str] | None,
        typer.Option(metavar="WHICH", help="A recorded episode: best, worst, last or its number. Repeat it for more."),
    ] = None,
    checkpoint: Annotated[
        list[str] | None,
        typer.Option(
            metavar="WHICH",
            help="A fresh episode of a policy: last, best, its decisions, or 0 for untrained. Repeat it for more.",
        ),
    ] = None,
    seed: Annotated[int, typer.Option(help="Seed of fresh episodes.")] = 0,
    to: Annotated[
        str,
        typer.Option(
            metavar="KIND|FILE", help="gif, mp4, png (a strip), terminal, or a file name with one of these endings."
        ),
    ] = "gif",
    speed: Annotated[float, typer.Option(help="Decisions shown per second.")] = 12.0,
    current: Current = False,
    trust: Trust = False,
) -> None:
    """Show recorded or fresh episodes, side by side, with what they earned.

    Example:  jokulmist replay runs/ferry-ppo-001 --checkpoint 0 --checkpoint last --to ferry.gif
    """
    from jokulmist.command.replaying import replay as work

    work(run, recorded or [], checkpoint or [], seed, to, speed, current)


@app.command()
def compare(
    runs: Annotated[list[Path], typer.Argument(metavar="RUN...", help="Folders of runs, or folders that hold runs.")],
    by: Annotated[
        list[str] | None,
        typer.Option(
            metavar="SECTION.NAME",
            help="The setting that makes the groups. Repeat it for more; by default all settings that differ.",
        ),
    ] = None,
    score: Annotated[
        str,
        typer.Option(
            help="What is compared: evaluation (of the last policy), return (of the last 100 episodes), a measure, or "
            "how fast was learned: area (mean height of the curve) or decisions (until the curve is at --level)."
        ),
    ] = "evaluation",
    over: Annotated[str, typer.Option(help="Draw the curves over steps, episodes or seconds.")] = "steps",
    level: Annotated[float | None, typer.Option(help="The score at which a seed counts as having learned.")] = None,
    against: Annotated[
        str | None,
        typer.Option(metavar="GROUP", help="Compare every other group with this one only."),
    ] = None,
    weights: Annotated[
        list[str] | None,
        typer.Option(
            metavar="TERM=WEIGHT", help="Score all runs by these weights; `declared` means those of the environment."
        ),
    ] = None,
    episodes: Annotated[int, typer.Option(help="Number of evaluation episodes of each run.")] = 100,
    seed: Annotated[int, typer.Option(help="Seed of the evaluation episodes.")] = 0,
    in_: Annotated[
        Path | None,
        typer.Option(
            "--in", metavar="RUN", help="Play all policies in the environment of this run: for versions that differ."
        ),
    ] = None,
    to: Annotated[
        Path | None,
        typer.Option(
            metavar="FILE", help="File of the figure (.pdf, .svg or .png); by default comparison.png beside the runs."
        ),
    ] = None,
    json: AsJson = False,
    trust: Trust = False,
) -> None:
    """Lay groups of runs side by side: curves and a table with intervals, and which groups differ by more than luck.

    Example:  jokulmist compare runs/ferry-ppo-* --by agent.entropy_bonus --to entropy.pdf
    """
    from jokulmist.command.comparing import compare as work

    work(runs, by or [], score, over, level, against, weights or [], episodes, seed, to, json, in_)


@app.command()
def tune(
    plan: Annotated[Path, typer.Argument(metavar="PLAN.toml", help="What to train, and in [tuning] how to search.")],
    set_: Set = None,
    folder: Folder = Path("runs"),
    name: Annotated[str | None, typer.Option(help="The name of the search; by default the next free one.")] = None,
    workers: Annotated[int | None, typer.Option(help="Number of worker processes; by default one a core.")] = None,
    cluster: Annotated[
        str | None,
        typer.Option(metavar="ADDRESS", help="The address of a Dask scheduler; its workers train."),
    ] = None,
    dry: Dry = False,
    queue: Queued = False,
    json: AsJson = False,
) -> None:
    """Search for settings. Ctrl-C ends it cleanly; `jokulmist resume FOLDER` goes on, also after it was killed.

    Example:  jokulmist tune pond.toml --set tuning.method=halving --set tuning.candidates=27

    A plan has, beside what train needs:  [tuning] method = "random", candidates = 24, score = "return"
    [tuning.over] "agent.learning_rate" = { between = [1e-4, 1e-2], scale = "log" }
    """
    from jokulmist.command.tuning import tune as work

    if queue and (dry or workers is not None or cluster):
        raise SettingError(
            "`--queue` goes without `--dry`, `--workers` and `--cluster`: a worker uses one process a core."
        )
    stopped = work(plan, set_ or [], folder, name, workers, cluster, dry, json, queue)
    raise typer.Exit(INTERRUPTED if stopped else DONE)


@app.command()
def queue(
    verb: Annotated[
        str,
        typer.Argument(
            metavar="VERB", help="list, work, pause, resume, stop, drop, first, move-up, move-down or accept."
        ),
    ] = "list",
    job: Annotated[int | None, typer.Argument(metavar="JOB", help="The number of a job.")] = None,
    folder: Folder = Path("runs"),
    workers: Annotated[int, typer.Option(help="With work: how many jobs at a time.")] = 1,
    until_empty: Annotated[bool, typer.Option("--until-empty", help="With work: end once nothing waits.")] = False,
    alone: Annotated[
        bool, typer.Option("--alone", help="End at once where another worker was begun with this.", hidden=True)
    ] = False,
    json: AsJson = False,
) -> None:
    """What waits and what is worked on; pause a job, go on with it, stop it, drop it, put it first. `work` trains what
    waits, until Ctrl-C; several workers may share a queue.

    Example:  jokulmist queue      jokulmist queue work --workers 2      jokulmist queue stop 3
    """
    from jokulmist.command import queueing

    if verb == "work":
        queueing.work(folder, job, workers, until_empty, alone)
        return
    if workers != 1 or until_empty:
        raise SettingError(f"`--workers` and `--until-empty` go with `queue work`; got `queue {verb}`.")
    queueing.queue(verb, job, folder, json)


@app.command()
def live(
    folder: Folder = Path("runs"),
    port: Annotated[int, typer.Option(help="Port to listen at; 0 takes a free one.")] = 8090,
    host: Annotated[
        str, typer.Option(help="Name or address to listen at; by default only this machine is let in.")
    ] = "127.0.0.1",
    workers: Annotated[
        int,
        typer.Option(help="How many jobs of the queue are done at a time; 0 leaves them to `jokulmist queue work`."),
    ] = 1,
    look: Annotated[bool, typer.Option("--look", help="A page that shows everything and can start nothing.")] = False,
    token: Annotated[str | None, typer.Option(help="The token of the address; by default a random one.")] = None,
    trust: Trust = False,
) -> None:
    """A page in the browser: runs as they happen, comparing, starting and stopping work, stepping through episodes,
    playing.

    Example:  jokulmist live      jokulmist live --folder night --workers 2
    """
    from jokulmist.command.live import live as show

    show(folder, host, port, workers, look, token)


@app.command()
def report(
    runs: Annotated[list[Path], typer.Argument(metavar="RUN...", help="Folders of the runs.")],
    to: Annotated[
        Path | None,
        typer.Option(metavar="FILE", help="File of the page; by default report.html in the folder of the run."),
    ] = None,
    replays: Annotated[bool, typer.Option(help="Show an episode from early and one from late in training.")] = True,
    trust: Trust = False,
) -> None:
    """One self-contained HTML page: what was asked, curves, endings, evaluations, the agent early and late, its origin.

    Example:  jokulmist report runs/ferry-ppo-001
    """
    from jokulmist.command.replaying import report as work

    work(runs, to, replays)


@app.command()
def runs(
    folder: Folder = Path("runs"),
    environment: Annotated[str | None, typer.Option(help="Only runs whose environment has this in its name.")] = None,
    agent: Annotated[str | None, typer.Option(help="Only runs whose agent has this in its name.")] = None,
    status: Annotated[
        str | None, typer.Option(help="Only runs that are waiting, running, killed, done, stopped or failed.")
    ] = None,
    where: Annotated[
        list[str] | None,
        typer.Option(metavar="SECTION.NAME=VALUE", help="Only runs with this setting. Repeat it for more."),
    ] = None,
    above: Annotated[
        float | None, typer.Option(help="Only runs whose last 100 episodes returned at least this on average.")
    ] = None,
    since: Annotated[
        str | None, typer.Option(metavar="DATE", help="Only runs that began on this date or later.")
    ] = None,
    sort: Annotated[
        str,
        typer.Option(metavar="COLUMN", help="The column to sort by: began, environment, agent, return_last_100, ..."),
    ] = "began",
    most: Annotated[
        int, typer.Option(min=1, help="The largest number of rows: the newest runs, or the first ones by --sort.")
    ] = 100,
    json: AsJson = False,
) -> None:
    """A table of the runs here, with the progress of those that are running.

    Example:  jokulmist runs --agent ppo --where agent.entropy_bonus=0.01 --sort return_last_100
    """
    from jokulmist.command.looking import runs as work

    work(
        folder,
        json,
        most,
        environment=environment,
        agent=agent,
        status=status,
        where=where or [],
        above=above,
        since=since,
        sort=sort,
    )


from jokulmist.command import elsewhere  # noqa: E402, F401  its commands come after those above


def main(arguments: list[str] | None = None) -> None:
    """Run the command line, and end with a status that scripts can use."""
    begin()
    for name in ("stdout", "stderr"):
        if getattr(sys, name) is None:  # closed by whoever started this: what is said goes nowhere
            setattr(sys, name, open(os.devnull, "w"))  # noqa: SIM115
    try:
        app(arguments, standalone_mode=True)
    except SystemExit:
        if was_interrupted():
            sys.exit(INTERRUPTED)
        raise
    except UntrustedCode as problem:
        if let_run(problem):
            main(arguments)
        sys.exit(WRONG_WORDS)
    except JokulmistError as problem:
        typer.echo(f"jokulmist: {problem}", err=True)
        wrong = isinstance(problem, (SettingError, LookupFailed, DeclarationError))
        sys.exit(WRONG_WORDS if wrong else FAILED)
    except KeyboardInterrupt:
        typer.echo("jokulmist: interrupted", err=True)
        sys.exit(INTERRUPTED)
    except BrokenPipeError:  # the reader of a pipe has gone; nothing more to say to it
        from jokulmist.plans.progress import mute

        mute(sys.stdout)
        mute(sys.stderr)
        sys.exit(DONE)
    except OSError as failure:
        place = f" {failure.filename}" if failure.filename else ""
        typer.echo(f"jokulmist: the system refused{place}: {failure.strerror or failure}", err=True)
        sys.exit(FAILED)


if __name__ == "__main__":
    main()
