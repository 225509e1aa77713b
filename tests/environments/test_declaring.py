"""A class that is declared wrongly says so when it is defined or first made, with the fix."""

from typing import ClassVar

import numpy as np
import pytest
from places import Corridor

import jokulmist as jm
from jokulmist.environments.declaration.instance import describe
from jokulmist.errors import BrokenEnvironment, DeclarationError, SettingError


def declared(without=(), **more):
    """A class like a small working one, without some parts and with others."""

    class State(jm.State):
        level: float = jm.seen(low=0.0, high=1.0)

    parts = {
        "State": State,
        "action": jm.Choice("a", "b"),
        "begin": lambda self, draw: self.State(level=0.5),
        "advance": lambda self, state, action, draw: state.replace(level=draw.uniform()),
        "gain": jm.reward(lambda self, after: after.level),
        "time_limit": 5,
    }
    parts = {name: part for name, part in (parts | more).items() if name not in without}
    return type("Place", (jm.Environment,), parts)


class Blind(jm.State):
    level: float


class Twice(jm.State):
    gain: float = jm.seen(low=0.0, high=1.0)


WRONG = {
    "no action": (lambda: declared(["action"]), "declares no action", "jm.Choice("),
    "no reward": (lambda: declared(["gain"]), "has no reward", "@jm.reward"),
    "no state": (lambda: declared(["State"]), "must be a class derived from `jm.State`", "class State(jm.State)"),
    "a state that is none": (lambda: declared(State=dict), "must be a class derived from `jm.State`", "class State"),
    "nothing seen": (lambda: declared(State=Blind), "shows the agent nothing", "jm.seen("),
    "no begin": (lambda: declared(["begin"]), "has no `begin`", "def begin(self, draw)"),
    "no advance": (lambda: declared(["advance"]), "has no `advance`", "def advance(self, state, action, draw)"),
    "advance misspelt": (
        lambda: declared(advance=lambda self, state, act, draw: state),
        "takes (self, state, act, draw)",
        "(self, state, action, draw)",
    ),
    "reward of a wrong argument": (
        lambda: declared(gain=jm.reward(lambda self, state: 1.0)),
        "takes `state`",
        "`before`, `action`, `after`",
    ),
    "sensor of a wrong argument": (
        lambda: declared(seen=jm.sensor(lambda self, after: 1.0)),
        "a sensor takes (self, state)",
        "(self, state, draw)",
    ),
    "reference of a wrong argument": (
        lambda: declared(rule=jm.reference(lambda self, observation: 0)),
        "a reference takes",
        "(self, state)",
    ),
    "one name twice": (lambda: declared(State=Twice), "uses the name `gain` twice", "rename"),
    "a name with a meaning": (
        lambda: declared(episode=jm.measure(lambda self, after: 1.0)),
        "names a part `episode`",
        "choose another name",
    ),
    "an unknown bound": (lambda: declared(State=_bounded("hight"))(), "the text 'hight'", "name of a parameter"),
    "bounds upside down": (lambda: declared(State=_bounded(-1.0))(), "low must lie below high", "low=0"),
    "a limit that is none": (lambda: declared(time_limit=0)(), "`time_limit`", "time_limit = 120"),
    "an empty choice": (lambda: jm.Choice(), "takes labels or one number", "jm.Choice("),
    "a label twice": (lambda: jm.Choice("a", "a"), "names an alternative twice", "own label"),
    "a range upside down": (lambda: jm.Range(1.0, 0.0), "low < high", "low=1.0"),
    "no part": (lambda: jm.Actions(), "at least one part", "jm.Actions(move="),
    "a text that varies": (lambda: jm.parameter("north"), "cannot vary", "fixed=True"),
    "a list as parameter": (lambda: jm.parameter([1, 2]), "a number, a flag or a text", "jm.series"),
    "a series of nothing": (lambda: jm.series(), "an array or a column", "jm.series("),
    "a measure over what": (lambda: jm.measure(over="median"), "one of", "`mean`"),
    "a weight that is none": (lambda: jm.reward(weight=float("nan")), "finite number", "weight=-2.0"),
}


def _bounded(high):
    class State(jm.State):
        level: float = jm.seen(low=0.0, high=high)

    return State


@pytest.mark.parametrize("case", WRONG)
def test_a_wrong_declaration_says_what_and_the_mend(case):
    make, subject, fix = WRONG[case]
    with pytest.raises(DeclarationError) as raised:
        make()
    assert subject in str(raised.value)
    assert fix in str(raised.value)


def test_a_state_refuses_what_is_no_field():
    with pytest.raises(DeclarationError, match="has a default"):
        type("State", (jm.State,), {"__annotations__": {"level": float}, "level": 3.0})
    with pytest.raises(DeclarationError, match="`float`, `int` or `bool`"):
        type("State", (jm.State,), {"__annotations__": {"level": str}})
    with pytest.raises(DeclarationError, match="has no type"):
        type("State", (jm.State,), {"level": jm.seen()})
    with pytest.raises(BrokenEnvironment, match=r"no field `cel`; its fields are `cell`. Did you mean `cell`"):
        Corridor.State(cell=1).replace(cel=2)
    with pytest.raises(BrokenEnvironment, match="without `cell`"):
        Corridor.State()
    with pytest.raises(
        BrokenEnvironment, match=r"return `state.replace\(cell=...\)`|Return `state.replace\(cell=...\)`"
    ):
        Corridor.State(cell=1).cell = 2


@pytest.mark.parametrize(
    ("settings", "message"),
    [
        ({"slip": 2.0}, r"`Corridor.slip` must lie in \[0, 1\]; got 2.0"),
        ({"slip": float("nan")}, "must be finite"),
        ({"slip": "much"}, "is a number"),
        ({"slip": True}, "is a number"),
        ({"length": 4.5}, "is a whole number"),
        ({"slop": 0.1}, "no parameter `slop`.*Did you mean `slip`"),
        ({"weights": {"prise": 1.0}}, "no reward term.*Did you mean `prize`"),
        ({"weights": {"prize": "much"}}, "finite number"),
    ],
)
def test_a_wrong_parameter_says_what_is_allowed(settings, message):
    with pytest.raises(SettingError, match=message):
        Corridor(**settings)


def test_an_instance_is_immutable_and_equal_by_its_settings():
    place = Corridor(slip=0.25, weights={"effort": -1.0})
    with pytest.raises(BrokenEnvironment, match=r"`self.cell` was set to 3.*Add a field `cell`"):
        place.cell = 3
    assert place == Corridor(slip=0.25, weights={"effort": -1})
    assert place != Corridor(slip=0.25)
    assert len({place, Corridor(slip=0.25, weights={"effort": -1})}) == 1
    assert describe(place).weights == (1.0, -1.0)
    assert repr(place) == "Corridor(slip=0.25, weights={'effort': -1.0})"


def test_a_description_resolves_bounds_shapes_and_the_order_of_closings():
    from places import Skiff, Snowfield

    spec = describe(Snowfield(side=3)).spec
    assert [(c.name, c.shape, c.high) for c in spec.channels] == [
        ("depth", (3, 3), 400.0),
        ("plough", (), 2.0),
        ("felt", (), 10.0),
    ]
    assert spec.width == 11
    assert spec.slices["felt"] == slice(10, 11)
    skiff = describe(Skiff())
    assert skiff.closings == ("far", "too_far", "deadline", "calm", "time limit")
    assert skiff.true_ends == 3
    assert describe(jm.gallery.WholeTarn(capacity=12)).spec.channels[0].high == 12


def test_a_series_reads_a_column_and_tells_what_is_wrong_with_it(tmp_path):
    good = tmp_path / "melt.csv"
    good.write_text("day,melt\n0,1.5\n1,2\n")
    assert jm.series(file=good, column="melt").array.tolist() == [1.5, 2.0]
    with pytest.raises(DeclarationError, match="no column `mel`; its columns are `day`, `melt`"):
        _ = jm.series(file=good, column="mel").array
    good.write_text("day,melt\n0,much\n")
    with pytest.raises(DeclarationError, match="line 2: column `melt` holds 'much'"):
        _ = jm.series(file=good, column="melt").array
    with pytest.raises(DeclarationError, match="is not there"):
        _ = jm.series(file=tmp_path / "none.csv", column="melt").array
    with pytest.raises(DeclarationError, match="must hold numbers"):
        _ = jm.series(["a", "b"]).array


def test_derived_values_follow_the_parameters_and_are_computed_once():
    calls = []

    def doubled(self):
        calls.append(1)
        return 2 * self.stride

    place = declared(stride=jm.parameter(3.0), doubled=jm.derived(doubled))(stride=4.0)
    assert (place.doubled, place.doubled, len(calls)) == (8.0, 8.0, 1)


def test_flows_are_zero_before_each_advance_and_arrays_keep_their_dtype():
    from places import Lamp, Snowfield

    episode = Snowfield().episode(seed=3)
    episode.act("clear")
    first = episode.state.cleared
    episode.act("wait")
    assert first > 0.0
    assert episode.state.cleared == 0.0
    assert episode.state.depth.dtype == np.float32
    assert Lamp().episode(seed=1).state.order.dtype == np.int32


def test_messages_name_the_methods_line_the_type_that_was_meant_and_the_runs_folder():
    def declared(**body):
        return type(
            "Sled",
            (jm.Environment,),
            {"__module__": __name__, "State": type("State", (jm.State,), {"__annotations__": {"at": float}}), **body},
        )

    def advance(self, s, action, draw):
        return s

    with pytest.raises(
        DeclarationError,
        match=rf"`Sled.advance` \(test_declaring.py:{advance.__code__.co_firstlineno}\) takes .* names are fixed",
    ):
        declared(action=jm.Choice(2), begin=lambda self, draw: None, advance=advance)
    with pytest.raises(DeclarationError, match="Write `lives: int`"):
        type("State", (jm.State,), {"__annotations__": {"lives": int}, "lives": 3})
    with pytest.raises(DeclarationError, match="30 endings and cuts; at most 22"):

        class Raft(jm.Simulator):
            observation: ClassVar = {"x": jm.channel(low=0, high=1)}
            action = jm.Choice(2)
            terms: ClassVar = {"a": 1.0}
            endings = tuple(f"e{k}" for k in range(30))

            def begin(self, seed): ...

            def advance(self, action): ...

    run = jm.train(jm.gallery.Tarn(), jm.RandomPlay(), steps=5, folder=None, lane="plain")
    with pytest.raises(AttributeError, match=r"Its folder is `run.path`"):
        _ = run.folder
    with pytest.raises(SettingError, match="`curriculum` is one"):
        jm.train(jm.gallery.Tarn(), jm.RandomPlay(), steps=5, folder=None, curriculum=[None])
