"""The commands in the order of the work, with an example each."""

import argparse
import re
from typing import NoReturn

GUIDE: dict[str, dict[str, str]] = {
    "Start": {
        "demo": "demo",
        "serve": "serve --port 8123",
        "worker": "worker",
        "simulate": "simulate ~/recording --preset copper --seed 3",
        "new": 'new "Slag Run" --from ~/recording --tempo 176',
        "songs": "songs",
    },
    "Look": {
        "show": "show copper-weather",
        "measure": "measure copper-weather",
        "hits": "hits copper-weather --take 1",
        "carries": "carries copper-weather",
        "masking": "masking copper-weather kick",
        "passages": "passages copper-weather snare",
        "tempo": "tempo copper-weather",
        "findings": "findings copper-weather --station align",
        "ask": "ask copper-weather tom_1 12.4 bleed",
    },
    "Set up": {
        "set-up": "set-up copper-weather crush --as room",
        "import-hits": "import-hits copper-weather hits.csv",
        "import-sheet": "import-sheet copper-weather sheet.json",
    },
    "Align and level": {
        "align": "align copper-weather --solve --onto overheads",
        "trim": "trim copper-weather -6 kick_in kick_out",
        "mirror": "mirror copper-weather",
        "width": "width copper-weather overhead_l 0.8",
    },
    "Clean and replace": {
        "clean": "clean copper-weather",
        "harvest": "harvest copper-weather snare -o ~/samples",
        "layer": "layer copper-weather snare --from song --hits accents",
        "sub": "sub copper-weather kick --note A1",
        "sample": "sample copper-weather snare_layer 2 --fade-out-ms 120",
        "even": "even copper-weather snare --amount 60",
        "patch": "patch copper-weather 3f0a1c9e2b --matches",
        "stock": "stock copper-weather snare --name crack",
    },
    "Shape, bus, sections": {
        "set": "set copper-weather mics.kick_in.fader_db -3",
        "copy": "copy copper-weather tom_1 tom_3 --stages eq,compressor",
        "chain": 'chain save copper-weather mics.snare_top "dry and short"',
        "ladder": "ladder copper-weather mics.snare_top.chain.compressor.attack_ms --values 5,10,20,40 "
        "--bars 5-12 -o ~/attacks",
        "rename": 'rename copper-weather buses.strike "Shell crack"',
        "routes": "routes copper-weather",
        "bed": "bed copper-weather",
        "sections": "sections copper-weather --find",
        "scene": 'scene copper-weather chorus --bars "9-16, 25-32"',
        "processors": "processors",
        "first-pass": "first-pass copper-weather --school natural --preview",
        "card": "card copper-weather",
    },
    "Print": {
        "render": "render copper-weather --node kick_in+snare_top --bars 5-12 -o kick.wav",
        "print": "print copper-weather -o ~/stems --stems mics,returns,mix --tap bus --pattern '{n:02} {name}'",
        "outboard": "outboard copper-weather --node snare_top --box simulated",
        "report": "report copper-weather -o recall.html",
        "export": "export copper-weather midi -o hits.mid",
    },
    "Back and forth": {
        "log": "log copper-weather",
        "compare": "compare copper-weather 1 12",
        "snapshot": 'snapshot copper-weather "before the plate"',
        "todo": 'todo copper-weather add "that ring" --at 24 --mic tom_2',
        "undo": "undo copper-weather",
        "redo": "redo copper-weather",
    },
    "Upkeep": {
        "check": "check",
        "backup": "backup copper-weather -o copper.zip",
        "restore": "restore copper.zip",
        "debug": "debug key copper-weather output",
    },
}

EXAMPLES = {name: example for group in GUIDE.values() for name, example in group.items()}


class Parser(argparse.ArgumentParser):
    """The parser of ``arkund``: its help lists the commands by what they are for."""

    abouts: dict[str, str]

    def error(self, message: str) -> NoReturn:
        """Exit with the message; an unknown command is answered in a sentence of our own."""
        wrong = re.search(r"invalid choice: '([^']*)'", message)
        if wrong:
            message = f"There is no command “{wrong[1]}”. arkund --help lists them."
        self.exit(2, f"{message}\n")

    def format_help(self) -> str:
        """Usage, then the groups."""
        wide = max(map(len, EXAMPLES))
        lines = ["usage: arkund COMMAND …", "", "From a folder of drum mics to a print."]
        for group, commands in GUIDE.items():
            lines += ["", group]
            lines += [f"  {name:<{wide}}  {self.abouts.get(name, '')}" for name in commands]
        lines += ["", "arkund COMMAND --help says what a command takes, with an example.", ""]
        return "\n".join(lines)
