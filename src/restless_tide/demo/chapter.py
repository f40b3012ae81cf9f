"""The first chapter: three weeks at the made-up Saltgrass Collective, played in through the client library."""

from __future__ import annotations

import re
import secrets
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from decimal import Decimal
from pathlib import Path

import httpx

from restless_tide.client import Tide
from restless_tide.core.leg import LegPhase
from restless_tide.core.rulebook import read_rulebook
from restless_tide.demo import answers, goods, pictures, texts
from restless_tide.demo.history import HISTORIES, write_history
from restless_tide.demo.processes import STORES
from restless_tide.demo.season import Season
from restless_tide.demo.walkers import Walkers
from restless_tide.standins.__main__ import RULEBOOKS
from restless_tide.standins.packages import PackageRecipe, write_apk, write_ipa, write_msix
from restless_tide.standins.signing import certificate_of, der_of, profile
from restless_tide.tls import verified
from restless_tide.wire.apps import Availability
from restless_tide.wire.cohorts import SignInWanted
from restless_tide.wire.releases import LegWanted
from restless_tide.wire.reviewing import BriefWanted
from restless_tide.wire.steps import StepTold

LENGTH = timedelta(days=23)
WRACKLINE = Path(__file__).parent / "wrackline.toml"
ANNOUNCED = RULEBOOKS / "announced"
_PLACE_ANDROID = ("android.permission.INTERNET", "android.permission.VIBRATE", "android.permission.CAMERA")
_PLACE_IOS = ("NSCameraUsageDescription", "NSLocationWhenInUseUsageDescription")
_CREW = (
    ("Wren Aldous", "wren@example.org"),
    ("Tam Okoro", "tam@example.org"),
    ("Bo Lindqvist", "bo@example.org"),
    ("Noor Haddad", "noor@example.org"),
)
_WALKERS = (
    ("Petra Vos", "petra@example.org"),
    ("Samir Aziz", "samir@example.org"),
    ("Edda Thorne", "edda@example.org"),
    ("Luca Ferri", "luca@example.org"),
    ("Mai Tran", "mai@example.org"),
    ("Hollis Grey", "hollis@example.org"),
)

_EXPIRING: dict[str, object] = {
    "standing": "expiring",
    "membership_until": (datetime.now(UTC) + timedelta(days=11)).isoformat(),
    "key_until": (datetime.now(UTC) + timedelta(days=160)).isoformat(),
}

Say = Callable[[str], None]


class Chapter:
    """Plays the scenario; ``say`` hears where it is."""

    def __init__(self, tide: Tide, season: Season, folder: Path, say: Say) -> None:
        self._tide, self._season, self._say = tide, season, say
        self._walkers, self._fixed = Walkers(tide, season, folder), ""
        self._packages = folder / "packages"
        self._packages.mkdir(parents=True, exist_ok=True)
        began = season.now - timedelta(days=20)
        self._revisions = {
            app: write_history(folder / "repositories" / app, entries, began) for app, entries in HISTORIES.items()
        }

    def play(self) -> None:
        begin = self._season.now
        self._say("the stores are connected, the apps registered")
        self._open_everything()
        self._say("what the stores ask is written and answered once")
        self._write_dossiers()
        self._say("Marram 2.3.0 goes out to everybody")
        self._release(
            "marram", "Marram", "2.3.0", ios=3, android=210, notes="Photos of your finds can be turned and cropped."
        )
        self._cohorts()
        self._season.until(begin + timedelta(days=4))
        self._say("Ferryglass 5.1.0 goes out to everybody")
        self._release(
            "ferryglass",
            "Ferryglass",
            "5.1.0",
            ios=1,
            android=87,
            notes="The evening ferries of the outer islands are in.",
        )
        for app in ("marram", "ferryglass"):
            self._tide.guards.set_up(app, name="crashes", on_breach="halt", every_store=True)
        self._tide.guards.set_up("ferryglass", name="stars", watched="ratings", on_breach="tell")
        why = "for versions that keep what people have written in another way"
        self._tide.ladders.set("careful", "5@24,20@48,50@48+steady24/2000,100", reason=why)
        self._season.until(begin + timedelta(days=13))
        self._say("Ferryglass 5.2.0 rises and is halted by its guard")
        self._season.control("northgate", "mischief", {"bad_numbers": [4]})
        self._season.control("openfield", "mischief", {"bad_numbers": [91]})
        self._bad_ferryglass()
        self._halted_by_its_guard(begin + timedelta(days=13, hours=60))
        self._settle_step("Halt 5.2.0")
        self._say("Ferryglass comes to desktops")
        self._desktop()
        self._say("Marram 2.4.0 is tried by the crew and the walkers, then rises")
        self._marram_in_trial()
        self._say("Loam is rejected, Ferryglass 5.2.1 waits for the go-ahead")
        self._loam_and_mend()
        self._say("Ferryglass 5.3.0 moves up from the workbench to those who chose early builds")
        self._early_ferryglass()
        self._say("Slatehouse announces other rules")
        self._other_rules()
        self._say("Marram 2.5.0 is being built")
        self._next_marram()
        self._say("time comes to now")
        self._season.come_to_now()
        self._begun_and_waiting()

    def _bad_ferryglass(self) -> None:
        """It goes to two stores with a gateway and to one by hand, and is launched at all three together."""
        ios = self._push("ferryglass", "Ferryglass", "5.2.0", 4, "northgate")
        android = self._push("ferryglass", "Ferryglass", "5.2.0", 91, "openfield")
        self._tide.builds.send("ferryglass", android, "wrackline")
        self._season.settle()
        self._settle_step("Hand in build")
        self._settle_step("See whether", "ready")
        legs = {
            "northgate": LegWanted(build=ios, ladder="10@24,50@48,100", with_other_legs=True),
            "openfield": LegWanted(build=android, with_other_legs=True),
            "wrackline": LegWanted(build=android, ladder="20@48,100", with_other_legs=True),
        }
        told = {"en": "Departures on the lock screen.", "de": "Abfahrten auf dem Sperrbildschirm."}
        self._tide.releases.draft("ferryglass", "5.2.0", legs=legs, notes=told)
        self._hand_in("ferryglass", "5.2.0")
        self._season.settle()
        self._settle_step("Hand 5.2.0 to review")
        self._settle_step("See what Wrackline", "approved")
        while not self._launched("ferryglass", "5.2.0"):
            self._season.pass_hours(3)
        self._season.wait_for(lambda: self._waiting("Launch 5.2.0") is not None)
        self._settle_step("Launch 5.2.0")

    def _hand_in(self, app: str, version: str, *, store: str | None = None) -> None:
        looked = self._tide.releases.look(app, version, store=store).revision
        self._tide.releases.submit(app, version, store=store, looked=looked)

    def _launched(self, app: str, version: str) -> bool:
        return all(leg.launched_at for leg in self._tide.releases.one(app, version).legs)

    def _halted_by_its_guard(self, until: datetime) -> None:
        """It crashes when the timetable is empty; two stores count it, and the guard halts it in all three."""
        while self._season.now < until:
            self._season.pass_hours(3)
            self._season.wait_for(self._judged)
        self._season.wait_for(
            lambda: all(leg.phase == LegPhase.HALTED for leg in self._tide.releases.one("ferryglass", "5.2.0").legs)
        )
        self._season.settle()

    def _judged(self) -> bool:
        """Whether what was counted of 5.2.0 until now was judged; nothing is counted before it is on offer."""
        offered = [leg.launched_at for leg in self._tide.releases.one("ferryglass", "5.2.0").legs if leg.launched_at]
        if not offered or min(offered) > self._season.now - timedelta(hours=1):
            return True
        watches = self._tide.guards.watches("ferryglass", "5.2.0")
        recent = self._season.now - timedelta(hours=1)
        return any(one.breached_at or (one.judged_at and one.judged_at > recent) for one in watches)

    def _open_everything(self) -> None:
        for store in STORES:
            self._tide.stores.connect(store, self._season.control(store, "connections", {}))
        self._tide.stores.carry("wrackline", WRACKLINE.read_text(encoding="utf-8"))
        self._tide.notices.subscribe("mail", "ida@saltgrass.example.org")
        self._season.control("northgate", "account", _EXPIRING)
        self._season.control("openfield", "mischief", {"taken_names": ["Loam"]})
        for name, title in (("marram", "Marram"), ("ferryglass", "Ferryglass"), ("loam", "Loam")):
            identifier = f"org.example.saltgrass.{name}"
            platforms = {"loam": ("android",), "ferryglass": ("android", "ios", "desktop")}.get(
                name, ("android", "ios")
            )
            self._tide.apps.register(name, title=title, identifiers=dict.fromkeys(platforms, identifier))
        for app in ("marram", "ferryglass"):
            for store in ("northgate", "openfield"):
                self._tide.apps.open_berth(app, store)
        self._tide.apps.open_berth("ferryglass", "slatehouse")
        self._tide.apps.open_berth("loam", "openfield")
        for app in ("marram", "ferryglass"):
            self._tide.apps.open_berth(app, "wrackline")
        self._season.settle()
        for _ in ("marram", "ferryglass"):
            self._settle_step("Open a place")
        self._tide.apps.open_berth("loam", "openfield", listed_name="Loam Soil Log")
        self._season.settle()
        offer = Availability(price=Decimal("1.99"), currency="EUR", countries=("AT", "CH", "DE", "NO"))
        self._tide.apps.offer("ferryglass", "slatehouse", offer, reason="the desktop edition is a paid one")
        self._season.settle()

    def _write_dossiers(self) -> None:
        own = {"description": texts.MARRAM_AT_WRACKLINE}
        self._tide.dossier.write("marram", "en", own, store="wrackline")
        for app in texts.TEXTS:
            answers.give(self._tide, app)
            pictures.put_in(self._tide, app)
            goods.put_in(self._tide, app)
            if answers.ANSWERS[app]["third-party-content"] == "allowed":
                goods.hand_in_letter(self._tide, app)
            texts.write(self._tide, app)
        for app in ("Marram", "Ferryglass"):
            for title in ("Write the texts of", "Put in the pictures of", "Answer the questions about"):
                self._settle_when_it_comes(f"{title} {app}")
        self._season.settle()

    def _begun_and_waiting(self) -> None:
        """Loam's dossier has gaps, and a text of Ferryglass waits until the version under review is decided."""
        self._tide.dossier.write("loam", "de", texts.LOAM_BEGUN)
        self._tide.dossier.answer("loam", answers.LOAM_CHANGED)
        self._tide.dossier.send("loam")
        pictures.change_loam(self._tide)
        self._tide.releases.add_leg("ferryglass", "5.2.1", "openfield", LegWanted(build=self._fixed))
        self._hand_in("ferryglass", "5.2.1", store="openfield")
        self._season.settle()
        last = self._season.control("openfield", "things/submission")[-1]["id"]
        words = "How do we make the timetable empty, to see that it starts all the same?"
        self._season.control("openfield", "reviewers", {"submission": last, "words": words, "asks": True})
        self._season.settle()
        self._tide.dossier.write("ferryglass", "en", {"summary": texts.FERRYGLASS_CHANGED})
        self._tide.dossier.send("ferryglass")
        self._season.settle()

    def _waiting(self, title: str) -> StepTold | None:
        return next((step for step in self._tide.steps.waiting() if step.title.startswith(title)), None)

    def _settle_when_it_comes(self, title: str) -> None:
        """Wait for a step, and have someone do it; others may follow it."""
        self._season.wait_for(lambda: self._waiting(title) is not None)
        self._tide.steps.settle(self._waiting_step(title).id, "done")

    def _waiting_step(self, title: str) -> StepTold:
        step = self._waiting(title)
        assert step is not None, f"no step waits that begins with {title!r}"
        return step

    def _settle_step(self, title: str, outcome: str = "done", said: str = "") -> None:
        """Someone does the step whose title begins so, and reports the result."""
        self._tide.steps.settle(self._waiting_step(title).id, outcome, said=said)
        self._season.settle()

    def _push(self, app: str, label: str, version: str, number: int, store: str, *tracks: str) -> str:
        """Build a package, push it, let the store process it, answer its question; returns the build's id.

        ``tracks`` are where it is placed as soon as the store has it ready.
        """
        ios = store == "northgate"
        place = () if app == "ferryglass" else _PLACE_IOS if ios else _PLACE_ANDROID
        identifier = f"org.example.saltgrass.{app}"
        recipe = PackageRecipe(identifier, version, number, label, place, padding_bytes=180_000 + 900 * number)
        if (app, version) == ("marram", "2.4.0"):  # what a person should notice between this build and the one before
            place = place if ios else (*place, "android.permission.ACTIVITY_RECOGNITION")
            recipe = replace(recipe, permissions=place, locales=("en", "de", "nl"), processors=("arm64-v8a", "x86_64"))
            recipe = replace(recipe, profile_ends=datetime.now(UTC) + timedelta(days=33), padding_bytes=260_000)
        path = self._packages / f"{app}-{version}-{number}"
        if store == "slatehouse":
            kinds = ("x64", "arm64")
            files = [
                write_msix(path.with_name(f"{path.name}-{kind}.msix"), replace(recipe, processor=kind))
                for kind in kinds
            ]
        else:
            write, suffix = (write_ipa, "ipa") if ios else (write_apk, "apk")
            files = [write(path.with_name(f"{path.name}.{suffix}"), recipe)]
        revision = self._revisions.get(app, {}).get(version)
        repository = app if revision else None
        pushed = self._tide.builds.push(
            *files, app=app, stores=[store], tracks=tracks, revision=revision, repository=repository
        )
        consignment = pushed.consignments[0]
        self._season.settle()
        if ios and any(step.app == app and "first build" in step.title for step in self._tide.steps.waiting()):
            self._season.hand_in(store, identifier, files[0])
            self._season.settle()
        self._season.pass_hours(3 if store == "slatehouse" else 0.5)
        seen = self._tide.builds.consignment(consignment.id)
        if seen.state == "held":
            answers = {question.code: "no" for question in seen.questions}
            self._tide.builds.answer(seen.id, answers, standing=app == "marram")
            self._season.settle()
        return consignment.build

    def _release(
        self, app: str, label: str, version: str, *, ios: int, android: int, notes: str, at_once: bool = False
    ) -> None:
        """Push to both stores, draft, submit; whatever follows follows automatically. ``at_once``: launched together."""
        ladder = "10@24,50@48,100"
        builds = {"northgate": ios, "openfield": android}
        legs = {
            store: LegWanted(
                build=self._push(app, label, version, number, store),
                ladder=ladder if store == "northgate" else None,
                with_other_legs=at_once,
            )
            for store, number in builds.items()
        }
        self._tide.releases.draft(app, version, legs=legs, notes={"en": notes, "de": "Kleine Verbesserungen."})
        self._hand_in(app, version)
        self._season.settle()

    def _cohorts(self) -> None:
        self._tide.testing.make_cohort("marram", "crew", kind="crew")
        self._tide.testing.make_cohort("marram", "dune-walkers", kind="guest")
        self._tide.testing.make_cohort("ferryglass", "crew", kind="crew")
        for name, email in _CREW:
            self._tide.testing.add_tester("marram", "crew", email, name=name)
            self._tide.testing.add_tester("ferryglass", "crew", email, name=name)
        for name, email in _WALKERS:
            self._tide.testing.add_tester("marram", "dune-walkers", email, name=name)
        self._walkers.gather()

    def _marram_in_trial(self) -> None:
        android = self._push("marram", "Marram", "2.4.0", 217, "openfield")
        ios = self._push("marram", "Marram", "2.4.0", 1, "northgate")
        for cohort, build, store in (
            ("crew", ios, "northgate"),
            ("crew", android, "openfield"),
            ("dune-walkers", android, "openfield"),
            ("shore-folk", android, "openfield"),
        ):
            self._tide.testing.open_trial("marram", cohort=cohort, build=build, store=store)
        self._season.settle()
        self._answer_invitations({"wren": "accept", "tam": "accept", "bo": "decline"})
        self._season.pass_hours(10)
        self._mails_are_out()
        self._answer_invitations({"petra": "accept", "edda": "accept"})
        for trial in self._tide.testing.trials("marram"):
            if trial.state == "open":
                self._walkers.answer(trial.id, *((0.62, 0.8) if trial.cohort == "dune-walkers" else (0.9, 0.9)))
        self._season.pass_hours(30)
        walkers = next(trial.id for trial in self._tide.testing.trials("marram") if trial.cohort == "dune-walkers")
        self._walkers.report(walkers)
        self._tide.builds.send("marram", android, "wrackline")
        self._season.settle()
        self._settle_step("Hand in build")
        self._settle_step("See whether", "ready")
        legs = {
            "northgate": LegWanted(build=ios, ladder="careful"),
            "openfield": LegWanted(build=android),
            "wrackline": LegWanted(build=android, ladder="25@60,60@72,100"),
        }
        told = {
            "en": "Dune maps with contour lines. Pages can be tagged with the tide.",
            "de": "Dünenkarten mit Höhenlinien.",
        }
        self._tide.releases.draft("marram", "2.4.0", legs=legs, notes=told)
        why = "finds are kept in another way; no store is to run ahead"
        self._tide.releases.set_pace("marram", "2.4.0", "in step", reason=why)
        self._hand_in("marram", "2.4.0")
        self._season.settle()
        self._settle_step("Hand 2.4.0 to review")
        self._season.pass_hours(48)
        self._settle_step("See what Wrackline", "approved")
        self._season.wait_for(lambda: any("Launch 2.4.0" in step.title for step in self._tide.steps.waiting()))
        self._settle_step("Launch 2.4.0")

    def _mails_are_out(self) -> None:
        """Every open trial's mails have gone, but those that nobody can be reached by."""
        self._season.wait_for(
            lambda: all(
                trial.invited.get("queued", 0) <= trial.stuck
                for trial in self._tide.testing.trials("marram")
                if trial.state == "open"
            )
        )

    def _answer_invitations(self, answers: dict[str, str]) -> None:
        """Testers open the link in their mail and answer."""
        self._mails_are_out()
        for mail in self._season.mails():
            who = mail["to"].partition("@")[0]
            link = re.search(r"http\S+/invitation/\S+", mail["text"])
            if who in answers and link:
                httpx.post(
                    link.group(),
                    data={"answer": answers[who]},
                    timeout=10,
                    trust_env=False,
                    verify=verified(link.group()),
                )

    def _loam_and_mend(self) -> None:
        loam = self._push("loam", "Loam", "1.0.0", 1, "openfield")
        self._tide.releases.draft(
            "loam", "1.0.0", legs={"openfield": LegWanted(build=loam)}, notes={"en": "The first Loam."}
        )
        self._season.control(
            "openfield",
            "mischief",
            {
                "reject_next": [
                    "The reviewer could not get past the first page: it asks for a field name and takes none."
                ]
            },
        )
        self._hand_in("loam", "1.0.0")
        self._season.pass_hours(14)
        for matter in self._tide.matters.of_app("loam"):
            self._tide.matters.arrange("loam", matter.id, taken_by=self._tide.people.me().id, ticket="SG-41")
        fixed = self._push("ferryglass", "Ferryglass", "5.2.1", 1, "northgate")
        leg = LegWanted(build=fixed, ladder="10@24,50@48,100", needs_go_ahead=True)
        self._tide.releases.draft(
            "ferryglass", "5.2.1", legs={"northgate": leg}, notes={"en": "Starts again when the timetable is empty."}
        )
        self._hand_in("ferryglass", "5.2.1")
        recipe = PackageRecipe("org.example.saltgrass.loam", "1.0.1", 2, "Loam", _PLACE_ANDROID, padding_bytes=180_000)
        self._season.pass_hours(31)
        self._tide.builds.push(write_apk(self._packages / "loam-1.0.1-2.apk", recipe), app="loam")
        self._season.pass_hours(1)

    def _early_ferryglass(self) -> None:
        """A fix waits for production, and a newer version is with the crew, then with those who chose early builds."""
        self._fixed = self._push("ferryglass", "Ferryglass", "5.2.1", 92, "openfield")
        tracks = self._tide.tracks
        tracks.make_rule("ferryglass", "openfield/early", hours=48, no_open=["crash"], needs_go_ahead=True)
        self._push("ferryglass", "Ferryglass", "5.3.0", 95, "openfield", "openfield/workbench")
        self._season.settle()
        self._season.pass_hours(14)
        tracks.promote("ferryglass", "openfield/workbench", to="early", reason="the crew has had it for a night")
        self._season.settle()
        self._season.pass_hours(12)

    def _desktop(self) -> None:
        """A desktop release of two packages, one per processor kind, goes its own way."""
        desktop = self._push("ferryglass", "Ferryglass", "5.3.0", 1, "slatehouse")
        told = "Departures in the corner of the screen, also without a network; the timetable of the outer islands."
        leg = LegWanted(build=desktop, ladder="15@90,60@72,100")
        self._tide.releases.draft("ferryglass", "5.3.0", legs={"slatehouse": leg}, notes={"en": told})
        brief = BriefWanted(
            note="The times are real. Choose any two islands; nothing has to be paid.",
            sign_in=SignInWanted(name="reviewer@saltgrass.example.org", password=secrets.token_urlsafe(12)),
        )
        self._tide.reviewers.change_brief("ferryglass", "slatehouse", brief)
        self._hand_in("ferryglass", "5.3.0")
        self._season.settle()

    def _next_marram(self) -> None:
        """A build server holds the next number; the first build of it is here; the locker and the devices are filled."""
        signing = self._tide.signing
        held = self._tide.builds.reserve("marram", step="minor", label="build server, job 812")
        place = ("android.permission.CAMERA", "android.permission.BODY_SENSORS")
        recipe = PackageRecipe(
            "org.example.saltgrass.marram", held.version, held.number.text, "Marram",
            (*_PLACE_ANDROID, "android.permission.ACTIVITY_RECOGNITION", *place), padding_bytes=430_000, lowest_platform=28,
        )  # fmt: skip
        file = write_apk(self._packages / f"marram-{held.version}-{held.number}.apk", recipe)
        revision = self._revisions["marram"]["2.5.0"]
        packages = [self._tide.builds.hand_over(file)[0]]
        entered = self._tide.builds.enter("marram", packages, revision=revision, repository="marram")
        self._tide.builds.reserve("marram", step="minor", label="build server, job 815")
        self._tide.builds.set_retention("marram", keep_newest=2, keep_days=14)
        begins = datetime(2026, 1, 1, tzinfo=UTC)
        upload, ends = certificate_of("Saltgrass upload", begins, 9_000), datetime.now(UTC) + timedelta(days=12)
        (self._packages / "upload.der").write_bytes(der_of(upload))
        made = profile(
            "Saltgrass upload",
            "org.example.saltgrass.marram",
            upload,
            ends,
            devices=("DEMO-DEVICE-0A11", "DEMO-DEVICE-0B22"),
        )
        (self._packages / "devices.mobileprovision").write_bytes(made)
        signing.put("marram", self._packages / "upload.der", platform="android", kind="certificate")
        signing.put("marram", self._packages / "devices.mobileprovision", platform="ios", kind="profile")
        signing.add_device(
            "marram", "ios", "DEMO-DEVICE-0A11", name="Wren's phone", expires_at=ends + timedelta(days=40)
        )
        signing.add_device("marram", "ios", "DEMO-DEVICE-0B22", name="The tablet in the field bag")
        self._walkers.sort(entered.id)

    def _other_rules(self) -> None:
        """Slatehouse announces a revision for three weeks from now; the desk names what it affects."""
        rules = read_rulebook((ANNOUNCED / "slatehouse.toml").read_text(encoding="utf-8"), "slatehouse.toml")
        body = {"rulebook": rules.model_dump(mode="json"), "in_hours": 24 * 21}
        self._season.control("slatehouse", "rulebook", body)
        self._season.settle()


def beginning() -> datetime:
    return datetime.now(UTC) - LENGTH
