"""``make tour``: the whole example by the tide command, on a throw-away desk in fast time."""

from __future__ import annotations

import io
import json
import os
import re
import shlex
import shutil
import sys
import tempfile
import time
from contextlib import chdir, redirect_stderr, redirect_stdout
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx

from restless_tide.cli.exits import Exit
from restless_tide.cli.main import main as run_command
from restless_tide.demo.processes import Processes, free_ports
from restless_tide.standins import pictures
from restless_tide.standins.packages import PackageRecipe, write_apk, write_ipa
from restless_tide.tls import verified
from restless_tide.wire.errors import TideError

_MARRAM = "org.example.saltgrass.marram"
_PATIENCE_SECONDS = 20.0
_PORTS_FROM, _PORTS = 30_000, 2_000


@dataclass(frozen=True)
class Done:
    returncode: int
    stdout: str
    stderr: str


class Tour:
    """Runs one command after the other, prints each with its answer, and stops where one ends unexpectedly."""

    def __init__(self, folder: Path, processes: Processes) -> None:
        self._folder = folder
        self._processes = processes
        for name in [name for name in os.environ if name.startswith("TIDE_")]:
            del os.environ[name]  # the settings of another desk, such as the demo's
        os.environ.update(processes.desk_environment())
        os.environ.update(
            TIDE_URL=processes.ports.address,
            TIDE_PASSWORD="a-tour-of-the-dunes",
            XDG_CONFIG_HOME=str(folder / "config"),
        )

    def say(self, text: str) -> None:
        print(f"\n\033[1m# {text}\033[0m" if sys.stdout.isatty() else f"\n# {text}", flush=True)

    def tide(self, line: str, expected: Exit = Exit.DONE) -> str:
        """Run ``tide LINE``; returns what it printed."""
        print(f"\n$ tide {line}", flush=True)
        done = self._run(shlex.split(line))
        print((done.stdout + done.stderr).rstrip(), flush=True)
        if done.returncode != expected:
            raise SystemExit(f"That ended with exit code {done.returncode}, not {int(expected)}; the tour stops here.")
        return done.stdout

    def ask(self, line: str) -> Any:
        """The JSON answer of a command, unprinted."""
        return json.loads(self._run([*shlex.split(line), "--json"]).stdout)

    def until(self, line: str, word: str) -> None:
        """Run a command until its answer holds ``word``, then print it."""
        deadline = time.monotonic() + _PATIENCE_SECONDS
        while word not in self._run(shlex.split(line)).stdout and time.monotonic() < deadline:
            time.sleep(0.1)
        if word not in self.tide(line):
            raise SystemExit(f"{word!r} did not come; the tour stops here.")

    def _run(self, words: list[str]) -> Done:
        """Run the command as its own process would, but in this one, which has loaded everything already."""
        said, complained = io.StringIO(), io.StringIO()
        with redirect_stdout(said), redirect_stderr(complained), chdir(self._folder):
            code = run_command(words)
        return Done(code, said.getvalue(), complained.getvalue())

    def walk(self) -> None:
        self._open()
        android, ios = self._builds()
        self._trial(android)
        self._tracks()
        self._release(android, ios)
        self._steer()
        self._by_hand()
        self._rules()
        self.say("Who did what, when and why")
        self.tide("logbook show --app marram --limit 8")
        self.tide("logbook verify")
        self.tide("standin acts northgate")
        self.say(
            "That was the whole way, from a package file to a halted rollout in two stores, and what stores do besides."
        )

    def _by_hand(self) -> None:
        self.say("A store without a gateway: what is ordered there becomes a step for a person")
        self.tide("berth open --app marram --store wrackline --wait 0", Exit.NOT_CONFIRMED)
        self.until("step list", "Open a place")
        step = self.ask("step list")[0]["id"]
        self.tide(f"step show {step}")
        self.tide(f"step settle {step} done")
        self.until("app show marram", "open")

    def _rules(self) -> None:
        self.say("A store announces other rules; the desk says what changes, and what it affects")
        self.tide("berth open --app marram --store slatehouse")
        self.tide("berth offer --app marram --store slatehouse --price 4.99 --currency EUR --check")
        self.tide("standin announce slatehouse --in-days 20")
        self.until("store show slatehouse", "Announced")
        self.say("Subscribe to notices, and try the button without touching a release")
        self.tide("notice subscribe mail ida@saltgrass.example.org --kind approved --kind 'order failing'")
        self.tide("drill halt --times 2")

    def _open(self) -> None:
        self.say("A desk, the three stores it is connected to, and one that is carried by hand")
        self.tide('desk init --name "Ida Fenwick" --email ida@saltgrass.example.org')
        self.tide("sign-in --email ida@saltgrass.example.org")
        for store in ("northgate", "openfield", "slatehouse"):
            self.tide(f"standin connection {store} {store}.json")
            self.tide(f"store connect {store} {store}.json")
        shutil.copy(Path(__file__).parent / "wrackline.toml", self._folder)
        self.tide("store carry wrackline wrackline.toml")
        self.tide("store key-steps")
        self.say("An app and its places; a taken name is refused and tried again")
        self.tide(f"app add marram --title Marram --android {_MARRAM} --ios {_MARRAM} --desktop {_MARRAM}")
        self.tide("standin mischief openfield --take-name Marram")
        self.tide("berth open --app marram --store northgate")
        self.tide("berth open --app marram --store openfield", Exit.REFUSED)
        self.tide('berth open --app marram --store openfield --name "Marram Diary"')

    def _builds(self) -> tuple[str, str]:
        self.say("Real packages: looked at, pushed, a store's question answered")
        place = ("android.permission.INTERNET", "android.permission.VIBRATE")
        write_apk(self._folder / "marram.apk", PackageRecipe(_MARRAM, "2.4.0", 17, "Marram", place))
        write_ipa(
            self._folder / "marram.ipa", PackageRecipe(_MARRAM, "2.4.0", 1, "Marram", ("NSCameraUsageDescription",))
        )
        self.tide("build inspect marram.apk")
        self.tide("build check marram.apk --app marram --store openfield")
        self.tide("build push marram.apk --app marram --store openfield")
        self.tide("build push marram.ipa --app marram --store northgate")
        self.until("build list --app marram", "openfield: processing")
        self.say(
            "Northgate takes the very first build only on its own pages: a step for a person, and the desk recognises it"
        )
        self.until("step list", "first build")
        self.tide("standin hand-in northgate marram.ipa")
        self.until("build list --app marram", "northgate: processing")
        for store in ("northgate", "openfield"):
            self.tide(f"standin step {store} 1")
        self.until("build list --app marram", "northgate: ready")
        self.until("build list --app marram", "openfield: held")
        builds = {build["consignments"][0]["store"]: build for build in self.ask("build list --app marram")}
        held = builds["openfield"]["consignments"][0]["id"]
        self.tide(f"build answer {held} rings-when-locked=no --standing")
        self.say("The same file again is recognised; a number that does not rise is refused before a byte leaves")
        self.tide("build push marram.apk --app marram --store openfield")
        write_apk(self._folder / "late.apk", PackageRecipe(_MARRAM, "2.4.0", 16, "Marram", place))
        self.tide("build push late.apk --app marram --store openfield", Exit.REFUSED)
        self.say("Whose signature is expected, and the number that comes next at both stores, held and written down")
        self.tide("signing show --app marram")
        (self._folder / "version.json").write_text('{"version": "0.0.0", "number": 0}\n', encoding="utf-8")
        self.tide("build next --app marram --reserve --write version.json")
        return builds["openfield"]["id"], builds["northgate"]["id"]

    def _trial(self, android: str) -> None:
        self.say("A cohort, its testers, a trial; each tester gets a mail with a personal link")
        self.tide("cohort add crew --app marram --kind crew")
        for name, address in (("Wren Aldous", "wren@example.org"), ("Tam Okoro", "tam@example.org")):
            self.tide(f'tester add {address} --name "{name}" --app marram --cohort crew')
        (self._folder / "people.csv").write_text(
            "E-Mail;Name\r\npetra@example.org;Petra Vos\r\nnobody;No Address\r\n", encoding="utf-8"
        )
        self.tide("cohort import crew people.csv --app marram", Exit.REFUSED)
        self.tide("cohort import crew people.csv --app marram --skip-bad")
        wanted = (
            f"--app marram --cohort crew --build {android} --store openfield "
            '--task "Walk a known path with the new dune maps." --contact ida@saltgrass.example.org'
        )
        self.tide(f"trial check {wanted}")
        self.tide(f"trial open {wanted}")
        mail = self.tide("standin mails --to wren@example.org")
        link = re.search(r"http\S+/invitation/\S+", mail)
        assert link is not None
        self.say("Wren opens the link and accepts")
        httpx.post(link.group(), data={"answer": "accept"}, timeout=10, trust_env=False, verify=verified(link.group()))
        trial = self.ask("trial list --app marram")[0]
        self.say("She installs it at the store, and says what she sees; a crash comes in, too, and the team answers")
        form = {"address": "wren@example.org", "act": "install", "device": "Wavelet 9", "system": "Android 15"}
        httpx.post(trial["store_page"], data=form, timeout=10, trust_env=False, verify=verified(trial["store_page"]))
        remark = {"text": "The contour lines disappear on the beach."}
        httpx.post(f"{link.group()}/remarks", data=remark, timeout=10, trust_env=False, verify=verified(link.group()))
        self.until(f"trial show {trial['id']}", "Wavelet 9")
        (self._folder / "stack.txt").write_text(
            "java.lang.IllegalStateException: tile 14/3 is empty\n\tat org.example.TileStore.open(TileStore.java:7)\n",
            encoding="utf-8",
        )
        self.tide(f"report add --app marram --stack stack.txt --build {android} --tester wren@example.org")
        self.tide("report list --app marram")
        said = next(report for report in self.ask("report list --app marram") if report["kind"] == "remark")
        self.tide(f'report reply {said["id"]} "Thank you! The next build draws them darker."')
        self.tide(f"report show {said['id']}")
        self.tide("report crashes --app marram")
        self.tide("cohort show crew --app marram")

    def _tracks(self) -> None:
        self.say("What each store gives to whom, and what a build still waits for before it moves up")
        self.tide("track list --app marram")
        self.tide("track show openfield/workbench --app marram")
        self.tide("track promote openfield/workbench --to early --app marram --dry-run", Exit.REFUSED)
        self.tide(
            "rule add openfield/workbench --app marram --to early --hours 12 --people 2 --no-open crash --go-ahead"
        )
        self.tide("rule list --app marram")
        rule = self.ask("rule list --app marram")[0]
        self.tide(f"rule end {rule['id']} --app marram")
        self.tide("track people openfield --app marram --cohort crew")

    def _release(self, android: str, ios: str) -> None:
        self.say("A release with one leg per store, handed to review; Openfield says no first")
        self.tide(
            f'release draft 2.4.0 --app marram --leg northgate={ios} --leg openfield={android} --ladder 5@24,25@48,100 --notes "en=Dune maps with contour lines."'
        )
        self.say("What the stores ask is written and answered once; the sheet says what is missing")
        self.tide("release ready 2.4.0 --app marram", Exit.REFUSED)
        self.tide(
            'dossier write en "summary=A nature diary for the shore." "description=Write down what you find." --app marram'
        )
        self.tide("dossier questions --app marram")
        self.tide(
            "dossier answer category=nature tags=diary,offline violence=none audience=youths,adults encryption=system advertising=none selling=goods third-party-content=users "
            "gathered-data.pictures=gathered,optional gathered-data.*= --app marram"
        )
        self.tide("dossier answer ground=no --app marram --store northgate")
        self.tide("dossier answer calls-a-day=2 --app marram --store openfield")
        self.say("What is sold inside is entered once, too")
        (self._folder / "maps.png").write_bytes(pictures.screen("maps", 900, 900, lines=("Maps",)))
        self.tide(
            "dossier write-good maps-of-the-islands --app marram --kind kept --price '4.50 EUR' --picture maps.png "
            "--name 'en=Maps of the islands' --description 'en=All dunes and paths, also without a network.'"
        )
        self.say("Pictures that a script has made are imported from a folder; each store gets them in its own sizes")
        for shot, content in (
            ("icon/mark.png", pictures.icon()),
            ("en/1-finds.png", pictures.screen("finds", 1360, 2900, lines=("What did you find?",))),
            ("en/2-tide.png", pictures.screen("tide", 1360, 2900, lines=("The tide turns at 16:20",))),
        ):
            file = self._folder / "shots" / shot
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_bytes(content)
        self.tide("dossier import-pictures shots --app marram")
        self.tide("dossier send --app marram")
        self.tide("dossier pictures --app marram --store northgate")
        self.tide("dossier questions --app marram --store openfield")
        self.tide("dossier goods --app marram --store northgate")
        self.tide("release ready 2.4.0 --app marram")
        self.tide('standin mischief openfield --reject-next "The first page does not load without a network."')
        self.tide("release look 2.4.0 --app marram")
        looked = self.ask("release look 2.4.0 --app marram")["revision"]
        self.tide(f"release submit 2.4.0 --app marram --looked {looked}")
        for store in ("northgate", "openfield"):
            self.tide(f"standin step {store} 40")
        self.until("release show 2.4.0 --app marram", "rejected")
        self.say("Its reason is work: it is fixed, and the reviewer is told; what it teaches is checked from now on")
        self.tide("matter list 2.4.0 --app marram")
        matter = self.ask("matter list 2.4.0 --app marram")[0]["id"]
        self.tide(f'matter fix {matter} --app marram --said "The first page is kept on the phone."')
        self.tide("matter note 2.4.0 --app marram --store openfield")
        self.tide(f'check add question "Does the first page load without a network?" --app marram --matter {matter}')
        check = self.ask("check list --app marram")[0]["id"]
        self.tide(f"check tick {check} 2.4.0 --app marram")
        self.say("Another build in the same version, and again; launched only after the go-ahead")
        place = ("android.permission.INTERNET", "android.permission.VIBRATE")
        write_apk(self._folder / "fixed.apk", PackageRecipe(_MARRAM, "2.4.0", 18, "Marram", place, lowest_platform=28))
        self.tide("build compare marram.apk fixed.apk")
        self.tide("build push fixed.apk --app marram --store openfield")
        self.until("build list --app marram", "openfield: processing")
        self.tide("standin step openfield 1")
        fixed = self.ask("build list --app marram")[0]
        self.say("Openfield asks again, and the standing answer is given automatically")
        self.until(f"build show {fixed['id']}", "Openfield: ready")
        self.tide(f"release change 2.4.0 --app marram --store openfield --build {fixed['id']} --needs-go-ahead")
        self.tide("release look 2.4.0 --app marram --store openfield")
        looked = self.ask("release look 2.4.0 --app marram --store openfield")["revision"]
        self.tide(f"release submit 2.4.0 --app marram --store openfield --looked {looked}")
        self.tide("standin step openfield 40")
        self.until("release show 2.4.0 --app marram", "the go-ahead to launch")
        self.tide('release go-ahead 2.4.0 --app marram --reason "the ferry fair opens"')
        self.until("release show 2.4.0 --app marram", "rising at 2%")

    def _steer(self) -> None:
        self.say("A day passes; the rollout rises by the clock, by hand, pauses and continues")
        for store in ("northgate", "openfield"):
            self.tide(f"standin step {store} 24.5")
        self.tide("desk clock --step 24.5")
        self.until("release show 2.4.0 --app marram", "rising at 10%")
        self.tide('rollout advance 2.4.0 --app marram --store northgate --share 40 --reason "crashes are below 2.3.0"')
        self.tide('rollout pause 2.4.0 --app marram --store openfield --reason "waiting for Monday"')
        self.tide('rollout resume 2.4.0 --app marram --store openfield --reason "Monday"')
        self.tide("overview")
        self.say(
            "It goes wrong while Openfield is away: halted at once where it can be, ordered and carried out later where not"
        )
        self.tide("standin mischief openfield --outage on")
        self.tide(
            'rollout halt 2.4.0 --app marram --reason "crashes on start on older phones" --wait 2', Exit.NOT_CONFIRMED
        )
        self.tide("standin mischief openfield --outage off")
        self.until("release show 2.4.0 --app marram", "Openfield: halted at 10%\n")
        self.say("What the rulebook does not allow is refused with what is possible")
        self.tide('rollout resume 2.4.0 --app marram --store northgate --reason "it was the network"', Exit.REFUSED)


def main() -> int:
    began = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="tide-tour-") as name:
        folder = Path(name)
        try:
            with Processes(
                folder,
                free_ports(_PORTS_FROM + os.getpid() % _PORTS),
                {"TIDE_STEPPABLE_CLOCK": "yes", "TIDE_POLL_SECONDS": "0.1"},
            ) as processes:
                processes.start_all()
                Tour(folder, processes).walk()
        except TideError as wrong:
            print(f"{wrong.detail} {wrong.remedy}", file=sys.stderr)
            return 1
        except KeyboardInterrupt:
            return 130
    print(f"It took {time.monotonic() - began:.0f} seconds.")
    return 0


if __name__ == "__main__":
    sys.exit(main())
