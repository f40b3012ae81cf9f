"""The people of the scenario who test Marram: a list of them, what they install, and what they send back."""

from __future__ import annotations

import base64
import io
import random
import re
from collections.abc import Sequence
from pathlib import Path

import httpx
from PIL import Image, ImageDraw

from restless_tide.client import Tide
from restless_tide.demo.season import Season
from restless_tide.tls import verified

CONTACT = "testing@saltgrass.example.org"
COUNT = 236
BRIEF = {
    "en": "Walk a known path with the new dune maps. Do the contour lines stay readable in bright sun?",
    "de": "Geh einen bekannten Weg mit den neuen Dünenkarten. Bleiben die Höhenlinien in der Sonne lesbar?",
}
_FIRST = [
    "Anouk",
    "Bram",
    "Cato",
    "Derk",
    "Eline",
    "Fenna",
    "Gijs",
    "Hilke",
    "Iben",
    "Jorn",
    "Kaya",
    "Lieke",
    "Mats",
    "Nienke",
    "Okke",
    "Pia",
    "Roos",
    "Sem",
    "Tjorven",
    "Ulla",
    "Vera",
    "Wiebke",
    "Yara",
    "Zoë",
    "Alma",
    "Bente",
    "Cas",
    "Doris",
    "Emil",
    "Frida",
]
_LAST = [
    "Aalders",
    "Bakema",
    "Cordes",
    "Duin",
    "Eilers",
    "Fokkema",
    "Groen",
    "Harms",
    "Ihnen",
    "Jansma",
    "Kluin",
    "Lorenz",
    "Mulder",
    "Noordhof",
    "Oltmanns",
]
_DEVICES = (
    ("Wavelet 9", "Android 15"), ("Wavelet 7", "Android 14"), ("Sandpiper Mini", "Android 13"), ("Knot Pro", "Android 16"),
)  # fmt: skip
_REMARKS = (
    ("en", "The contour lines disappear on the beach, the ground is too bright there. Near the dunes they are fine."),
    ("de", "Die Karte springt beim Drehen des Telefons zurück an den Anfang des Weges."),
    ("en", "Lovely. Could the tide be shown beside the photo, too, not only beside the page?"),
    ("en", "It takes eleven seconds until the first map is there. Before it took two or three."),
)
NAME_MAP = """\
# made up for the scenario
org.example.saltgrass.marram.map.TileStore -> b.c:
    10:40:org.example.saltgrass.marram.map.Tile open(int,int,int):112:142 -> a
org.example.saltgrass.marram.map.ContourLayer -> b.d:
    80:95:void draw(android.graphics.Canvas):54:69 -> b
org.example.saltgrass.marram.diary.PageTagger -> b.e:
    5:19:java.lang.String tideAt(java.time.Instant):31:45 -> a
"""
_STACKS = (
    "java.lang.IllegalStateException: tile {x}/8712/5391 is empty\n"
    "\tat b.c.a(SourceFile:{line})\n\tat b.d.b(SourceFile:88)\n\tat android.os.Handler.handleCallback(Handler.java:958)\n",
    "java.time.format.DateTimeParseException: Text '24:{x}' could not be parsed\n"
    "\tat java.time.format.DateTimeFormatter.parse(DateTimeFormatter.java:2052)\n\tat b.e.a(SourceFile:12)\n",
)


def people_csv() -> bytes:
    """A list as someone keeps it in a spreadsheet: semicolons, German headers, a few rows that cannot be taken."""
    dice = random.Random(7)  # noqa: S311  (the scenario is the same every time)
    lines = ["Vorname;Nachname;E-Mail;Sprache;Plattform;Gruppe"]
    for place in range(COUNT):
        first, last = _FIRST[place % len(_FIRST)], _LAST[(place * 7 + place // len(_FIRST)) % len(_LAST)]
        address = f"{first}.{last}{place}@example.org".lower().replace("ë", "e")
        language = "de" if dice.random() < 0.45 else "en"
        group = dice.choice(("coast", "islands", "inland"))
        lines.append(f"{first};{last};{address};{language};Android;{group}")
    lines[40:40] = [
        "Nobody;;not an address;en;Android;coast",
        "Anouk;Aalders;Anouk.Aalders0@example.org;en;Android;coast",
    ]
    return "\r\n".join(lines).encode()


def picture(seed: int) -> bytes:
    """A made-up capture of the app: a pale map with contour lines and a marker."""
    dice = random.Random(seed)  # noqa: S311
    image = Image.new("RGB", (540, 960), "#f3ead2")
    draw = ImageDraw.Draw(image)
    draw.rectangle((0, 0, 540, 74), fill="#0b6563")
    draw.text((24, 28), "Marram · dune map", fill="white", font_size=24)
    for ring in range(9):
        box = [
            90 + ring * 22 + dice.randint(-8, 8),
            190 + ring * 34,
            450 - ring * 18,
            760 - ring * 28 + dice.randint(-10, 10),
        ]
        draw.ellipse(box, outline="#d9c48f" if ring < 4 else "#b08d3e", width=3)
    draw.rectangle((0, 800, 540, 960), fill="#8fc9c3")
    draw.ellipse((258, 430, 286, 458), fill="#a4361f")
    out = io.BytesIO()
    image.save(out, "JPEG", quality=85)
    return out.getvalue()


class Walkers:
    """Those who test Marram, as they go about it."""

    def __init__(self, tide: Tide, season: Season, folder: Path) -> None:
        self._tide, self._season, self._folder = tide, season, folder

    def gather(self) -> None:
        """Cohorts of all kinds: a crew that gets every build automatically, a list of guests, and a link for whoever comes."""
        testing = self._tide.testing
        testing.keep_brief("marram", "crew", BRIEF, contact=CONTACT)
        testing.keep_brief("marram", "dune-walkers", BRIEF, contact=CONTACT)
        testing.import_testers(people_csv(), app="marram", cohort="dune-walkers", dry_run=False, skip_bad=True)
        testing.make_cohort("marram", "shore-folk", kind="walk-in", stores=["openfield"])
        testing.keep_brief("marram", "shore-folk", BRIEF, contact=CONTACT)
        testing.set_join("marram", "shore-folk", is_open=True, limit=500)
        self._season.mail_mood(send_back=["harms1@", "groen18@", "groen63@"])
        link = next(cohort.join.link for cohort in testing.cohorts("marram") if cohort.join)
        for place in range(14):
            first = _FIRST[-place - 1]
            form = {
                "address": f"{first}.shore@example.net".lower().replace("ë", "e"),
                "platform": "android",
                "consent": "yes",
            }
            httpx.post(link, data=form | {"name": first}, timeout=10, trust_env=False, verify=verified(link))

    def answer(self, trial: str, share: float, installing: float) -> None:
        """Some accept by the link in their mail, and most of those install it at the store."""
        dice = random.Random(11)  # noqa: S311
        links = {
            mail["to"]: found.group()
            for mail in self._season.mails()
            if (found := re.search(r"http\S+/invitation/\S+", mail["text"]))
        }
        told = self._tide.testing.trial(trial)
        reference = (told.store_page or "").rpartition("/")[2]
        with httpx.Client(timeout=10, trust_env=False, verify=False) as http:  # noqa: S501  (loopback)
            for invitation in self._tide.testing.invitations(trial):
                address = invitation.tester.email
                if invitation.state not in ("sent", "accepted") or dice.random() > share or address not in links:
                    continue
                declines, installs = dice.random() < 0.04, dice.random() < installing
                http.post(links[address], data={"answer": "decline" if declines else "accept"})
                if installs and not declines:
                    device, system = dice.choice(_DEVICES)
                    act = {"address": address, "act": "install", "device": device, "system": system}
                    self._season.control(told.store, f"testers/{reference}", act)
        self._season.settle()

    def report(self, trial: str) -> None:
        """Remarks with pictures, crashes whose names come back by the name map, and what the team makes of them."""
        told = self._tide.testing.trial(trial)
        reference = (told.store_page or "").rpartition("/")[2]
        on_it = self._tide.testing.invitations(trial, state="installed")
        for place, (language, text) in enumerate(_REMARKS):
            who = on_it[place * 3]
            wish = {"trial": reference, "address": who.tester.email, "text": text, "language": language}
            wish |= {"device": who.device, "system": who.system}
            pictures = [base64.b64encode(picture(place)).decode()] if place in (0, 1) else []
            self._season.control(told.store, "reports", wish | {"pictures": pictures})
        for place in range(9):
            who = on_it[(place * 5 + 1) % len(on_it)]
            stack = _STACKS[0 if place < 6 else 1].format(x=11 + place, line=20 + place % 3)
            wish = {"trial": reference, "address": who.tester.email, "kind": "crash", "stack": stack}
            self._season.control(told.store, "reports", wish | {"device": who.device, "system": who.system})
        self._season.settle()
        file = self._folder / "names-217.txt"
        file.write_text(NAME_MAP, encoding="utf-8")
        self._tide.reports.keep_symbols(told.build, file)

    def sort(self, fixed_in: str) -> None:
        """The team looks at what came: accepts, answers, marks as fixed, closes."""
        reports = self._tide.reports
        remarks = reports.some(app="marram", kind="remark")
        bright = next(report for report in remarks if "too bright" in report.text)
        reports.decide(bright.id, "accept")
        reports.set_ticket(bright.id, "MAR-412")
        reports.reply(
            bright.id,
            "Thank you! The lines get a darker edge on pale ground in the next build. Would you look again then?",
        )
        slow = next(report for report in remarks if "eleven seconds" in report.text)
        reports.decide(slow.id, "close", reason="the first map is loaded once only")
        crashes = self._same(reports.groups("marram")[0].fingerprint)
        reports.decide(crashes[0], "accept")
        for other in crashes[1:4]:
            reports.decide(other, "duplicate", duplicate_of=crashes[0])
        dates = self._same(reports.groups("marram")[1].fingerprint)
        reports.decide(dates[0], "fix", build=fixed_in)
        self._tide.testing.attach("marram", "crew", "openfield", by_itself=True)
        self._season.settle()

    def _same(self, fingerprint: str) -> Sequence[str]:
        return [report.id for report in reversed(self._tide.reports.some(app="marram", group=fingerprint))]
