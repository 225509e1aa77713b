"""Values and texts that nobody means."""

VALUES = (
    True, False, -1, 0, 1.5, -0.5, 10**12, 10**30, 1e300, -1e300, float("nan"), float("inf"), -float("inf"), "", "x", "0.5", "off", "🦊", "a" * 5_000,
    "\x1b[31mred", "line\nline", "../../x", "os:system", "nowhere.py:Pond", [], [1, 2], [[[]]], ["x"], {}, {"use": "x"}, {"linear": [1, 2]},
    {"function": "os:system"}, {"linear": "x"}, {"piecewise": [[0, 1], [0.5, "x"]]}, {"between": [0, 1]},
)  # fmt: skip
TEXTS = (
    "", " ", "-1", "0", "1", "2", "3.5", "1e3", "nan", "inf", "-inf", "true", "x", "a=b", "=", "a=", "=b", "agent.bins=3", "agent.bins=x", "agent.x=1",
    "agent=3", "training.steps=[]", "environment.tide=0.1", "environment.weights.x=1", "training.seeds=[0,0]", "training.seeds=[]", "training.seeds=-1",
    "training.copies=0", "training.lane=x", "[", "{", "'", '"', "\\", "🦊", "a" * 300, "x\x00y", "\x1b[2J", "line\nline", "..", ".", "~", "runs", "runs/one",
    "runs/nosuch", "plan.toml", "pond.py", "pond.py:Pond", "pond.py:Nope", "pond.py:", ":Pond", "os:system", "json", "ferry", "tarn", "Ferry", "winch:x",
    "best", "last", "0,1", "rain=0,1", "rain=", "rain=x,y", "level,let_in", "level,nope", "greedy", "sampled", "return", "steps", "episodes", "area",
    "2001-01-01", "tomorrow", "%s", "${HOME}", "$(id)", "`id`", "; ls", "a,b,c", "1,2,3",
)  # fmt: skip
OPTIONS = (
    "--set", "--folder", "--name", "--workers", "--json", "--dry", "--steps", "--episodes", "--seed", "--act", "--checkpoint", "--record", "--over", "--map",
    "--to", "--recorded", "--by", "--score", "--level", "--in", "--weights", "--over", "--environment", "--agent", "--status", "--where", "--above",
    "--since", "--sort", "--most", "--current", "--trust", "--take-over", "--start-over", "--trace", "--policy", "--help", "--replays", "--no-replays", "--x", "-h", "--",
)  # fmt: skip
COMMANDS = (
    "gallery",
    "new",
    "check",
    "play",
    "train",
    "resume",
    "redo",
    "evaluate",
    "replay",
    "compare",
    "report",
    "runs",
    "tour2",
    "",
)
