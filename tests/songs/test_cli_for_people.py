"""The command line as people read it: help in the order of the work, tables, words."""

import argparse
import shlex
from typing import Any

import pytest

from arkund import cli
from arkund.cli.guide import EXAMPLES, GUIDE
from arkund.cli.showing import show
from arkund.core.render.stem_files import FORMATS
from arkund.core.render.wish import KINDS, TAPS


def _commands() -> dict[str, argparse.ArgumentParser]:
    subparsers = cli._parser()._subparsers
    assert subparsers is not None
    (actions,) = (a for a in subparsers._group_actions)
    choices: Any = actions.choices
    return dict(choices)


def test_every_command_stands_in_one_group_with_an_example_that_it_takes() -> None:
    listed = [name for group in GUIDE.values() for name in group]
    assert sorted(listed) == sorted(_commands())
    for name, example in EXAMPLES.items():
        assert cli._parser().parse_args(shlex.split(example)).command == name
        assert f"Example: arkund {name}" in _commands()[name].format_help()


def test_help_lists_groups_and_says_what_each_is_for(capsys: pytest.CaptureFixture[str]) -> None:
    with pytest.raises(SystemExit) as left:
        cli.main(["--help"])
    said = capsys.readouterr().out
    assert left.value.code == 0
    places = [said.index(f"\n{group}\n") for group in GUIDE]
    assert places == sorted(places)
    assert "the punch card: wanted, as recorded, now" in said


def test_print_says_what_stems_and_formats_there_are() -> None:
    said = _commands()["print"].format_help()
    assert all(name in said for name in (*KINDS, *TAPS, *FORMATS))


def test_a_command_that_there_is_not_is_answered_in_words(
    capsys: pytest.CaptureFixture[str],
) -> None:
    with pytest.raises(SystemExit) as left:
        cli.main(["shuffle"])
    assert left.value.code == 2
    assert capsys.readouterr().err == "There is no command “shuffle”. arkund --help lists them.\n"


def test_results_are_lines_and_tables(capsys: pytest.CaptureFixture[str]) -> None:
    show(
        {
            "song": "copper-weather",
            "peak_dbfs": -0.0,
            "takes": [1, 2],
            "mics": [
                {"mic": "kick_in", "peak_dbfs": -7.756, "piece": "kick", "flags": []},
                {"mic": "room_l", "peak_dbfs": -10.0, "piece": None, "flags": []},
            ],
            "remedies": [],
        }
    )
    lines = [" ".join(line.split()) for line in capsys.readouterr().out.splitlines()]
    assert "song: copper-weather" in lines
    assert "peak (dBFS): 0" in lines
    assert "takes: 1, 2" in lines
    assert "remedies: none" in lines
    # A column in which nothing stands is left out; units are written as people write them.
    assert "mic peak (dBFS) piece" in lines
    assert "kick_in −7.76 kick" in lines
    assert "room_l −10 –" in lines


def test_values_of_the_same_things_stand_side_by_side(capsys: pytest.CaptureFixture[str]) -> None:
    things = [f"thing {n}" for n in range(8)]
    show(
        {
            "wanted": dict.fromkeys(things, 1),
            "now": dict.fromkeys(things[1:], 2.5),
            "school": "Tight",
        }
    )
    lines = [" ".join(line.split()) for line in capsys.readouterr().out.splitlines()]
    assert "wanted now" in lines
    assert "thing 0 1 –" in lines
    assert "thing 7 1 2.5" in lines


def test_square_brackets_are_text(capsys: pytest.CaptureFixture[str]) -> None:
    show({"songs": [{"song": "a", "name": "[red]Loud[/] [b"}], "name": "[bold]"})
    said = capsys.readouterr().out
    assert "[red]Loud[/] [b" in said
    assert "name: [bold]" in said
