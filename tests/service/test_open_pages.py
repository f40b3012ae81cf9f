"""What stands around the pages that need no sign-in: words in every language, the brake, bounds, and logs without names."""

from __future__ import annotations

import string
from email import message_from_bytes, policy
from email.message import EmailMessage
from typing import Any

import pytest

from restless_tide.desk.words import accepted_languages, language_of, languages, steps_for, text_for, words
from restless_tide.engine.inlet import delivery_statuses, too_odd
from restless_tide.engine.mail import TEMPLATES
from restless_tide.service import brake
from restless_tide.service.brake import Brake
from restless_tide.service.limits import LARGEST_BODY_BYTES, largest_body
from restless_tide.service.paths import impersonal
from restless_tide.standins.mail_sink import delivery_notice

NAMED = {
    "app": "Marram", "version": "1.0.0", "number": 7, "store": "Openfield", "name": "Wren", "contact": "a@example.org",
    "where": "the forum", "page": "https://store.example.org", "device": "Wavelet 9", "day": "2026-12-01", "fixed": "1.0.1",
}  # fmt: skip


def fields(text: str) -> set[str]:
    return {name for _, name, _, _ in string.Formatter().parse(text) if name}


@pytest.mark.parametrize("language", languages())
def test_every_language_says_everything_with_the_same_names_in_it(language: str) -> None:
    whole, here = words("en"), words(language)
    for table, entries in whole.items():
        assert set(here[table]) == set(entries), table
        for name, text in entries.items():
            assert fields(here[table][name]) == fields(text), f"{table}.{name}"
            assert here[table][name].strip()


@pytest.mark.parametrize("language", languages())
@pytest.mark.parametrize("platform", ["android", "ios", "desktop", "toaster"])
@pytest.mark.parametrize("has_page", [True, False])
def test_the_steps_are_whole_on_every_platform(language: str, platform: str, has_page: bool) -> None:
    found = steps_for(platform, language, NAMED, has_page=has_page)
    assert len(found) == (4 if platform != "toaster" else 1) + has_page
    assert not any("{" in step for step in found)


@pytest.mark.parametrize("language", languages())
@pytest.mark.parametrize("carried", [True, False])
def test_a_mail_escapes_what_people_wrote(language: str, carried: bool) -> None:
    said = {name: text.format(**NAMED) for name, text in words(language)["mail"].items()}
    content: dict[str, Any] = {
        "w": said | {"hello": "Hello <script>,"}, "steps": ["<b>one</b>"], "brief": "<img src=x>", "link": "https://a.example/?a=1&b=2",
        "language": language, "carried": carried, "has_name": True, "remarks_to": "",
    }  # fmt: skip
    html = TEMPLATES.get_template("invitation.html").render(content)
    assert "<script>" not in html
    assert "<img" not in html
    assert "<b>one" not in html
    assert "https://a.example/?a=1&amp;b=2" in html
    assert "<img src=x>" in TEMPLATES.get_template("invitation.txt").render(content)


@pytest.mark.parametrize(
    ("header", "language"),
    [
        ("de-AT,de;q=0.9,en;q=0.8", "de"),
        ("fr,en;q=0.2,de;q=0.5", "de"),
        ("xx", "en"),
        ("", "en"),
        ("*", "en"),
        ("en;q=0.1, de;q=0.2", "de"),
        ("de;q=nonsense,en", "en"),
    ],
)
def test_the_dearest_language_that_there_is_is_spoken(header: str, language: str) -> None:
    assert language_of(accepted_languages(header)) == language


@pytest.mark.parametrize(
    ("texts", "wanted", "text"),
    [
        ({"en": "E", "de": "D"}, ["de-AT"], "D"),
        ({"en": "E", "de": "D"}, ["fr"], "E"),
        ({"nl": "N"}, ["fr"], "N"),
        ({"en-GB": "B"}, ["en"], "B"),
        ({}, ["en"], ""),
    ],
)
def test_a_brief_is_told_in_the_dearest_language_that_it_has(
    texts: dict[str, str], wanted: list[str], text: str
) -> None:
    assert text_for(texts, wanted) == text


def test_the_brake_holds_one_place_and_lets_go_after_a_while(monkeypatch: pytest.MonkeyPatch) -> None:
    now = [0.0]
    monkeypatch.setattr(brake.time, "monotonic", lambda: now[0])
    held = Brake(3)
    assert [held.holds("here") for _ in range(5)] == [False, False, False, True, True]
    assert not held.holds("there")
    now[0] = brake.WINDOW_SECONDS + 1
    assert not held.holds("here")
    for place in range(20_000):
        held.holds(f"place {place}")
    assert len(held._seen) <= 10_000, "what it remembers is bounded"


@pytest.mark.parametrize(
    ("path", "told"),
    [
        ("/invitation/in-abc.secret/remarks", "/invitation/…"),
        ("/join/co-abc.secret", "/join/…"),
        ("/v1/testers/wren@example.org", "/v1/testers/…"),
        ("/v1/testers/wren@example.org/forgetting", "/v1/testers/…/forgetting"),
        ("/v1/testers/te-abc", "/v1/testers/te-abc"),
        ("/v1/apps/marram/cohorts", "/v1/apps/marram/cohorts"),
    ],
)
def test_a_log_holds_no_code_and_no_address(path: str, told: str) -> None:
    assert impersonal(path) == told


@pytest.mark.parametrize(
    ("path", "larger"),
    [
        ("/v1/apps/marram/cohorts/crew/imports", True),
        ("/v1/testers/imports", True),
        ("/v1/reports/fr-1/pictures", True),
        ("/invitation/in-1.x/remarks", True),
        ("/v1/builds/b-1/symbols", True),
        ("/v1/reports/fr-1/replies", False),
        ("/join/co-1.x", False),
        ("/v1/testers/imports/more", False),
    ],
)
def test_only_what_needs_it_takes_a_large_body(path: str, larger: bool) -> None:
    assert (largest_body(path) > LARGEST_BODY_BYTES) == larger


def read(raw: bytes) -> EmailMessage:
    return message_from_bytes(raw, policy=policy.default)  # type: ignore[return-value]


@pytest.mark.parametrize(("failed", "told"), [(True, ("failed", "5.1.1")), (False, ("delayed", "4.4.1"))])
def test_a_delivery_status_is_read(failed: bool, told: tuple[str, str]) -> None:
    notice = delivery_notice(b"Subject: x\r\n\r\nbody", "wren@example.org", "bounce+x@example.org", failed=failed)
    (found,) = delivery_statuses(read(notice))
    assert found.recipient == "wren@example.org"
    assert (found.action, found.code) == told
    assert found.said


UTF8_STATUS = """Content-Type: multipart/report; report-type=delivery-status; boundary=x

--x
Content-Type: message/global-delivery-status

Reporting-MTA: dns; mx.example.net

Final-Recipient: rfc822; other@example.org
Action: relayed
Status: 2.0.0

Final-Recipient: utf-8; wrén@example.org
Action: failed
Status: 4.4.7
Diagnostic-Code: smtp; 451 gave up after five days
--x--
"""


def test_a_delivery_status_in_other_scripts_and_of_several_recipients_is_read() -> None:
    other, wren = delivery_statuses(read(UTF8_STATUS.encode()))
    assert (other.recipient, other.action) == ("other@example.org", "relayed")
    assert (wren.recipient, wren.action, wren.code) == ("wrén@example.org", "failed", "4.4.7")


@pytest.mark.parametrize(
    ("content", "why"),
    [
        (b"Content-Type: text/plain" + b";\r\n a=1" * 20_000 + b"\r\n\r\nx", "headers are over"),
        (
            b"Subject: x\r\n\r\n--x\r\nContent-Type: text/plain" + b";\r\n a=1" * 20_000 + b"\r\n\r\nx",
            "a header is over",
        ),
        (b"Subject: x\r\n\r\n" + b"x" * 10_000, "a line is over"),
        (b"Subject: x\r\n\r\n" + b"--x\r\n" * 1_000, "parts"),
        (b"Subject: x\r\n\r\n" + b"a line of text\r\n" * 50_000, None),
    ],
    ids=["headers", "a part's header", "a line", "parts", "long and well"],
)
def test_a_mail_that_costs_more_than_its_length_is_not_parsed(content: bytes, why: str | None) -> None:
    told = too_odd(content)
    assert told is None if why is None else why in (told or "")


@pytest.mark.parametrize(
    "raw",
    [
        b"Subject: I am away\r\n\r\nBack on Monday.",
        b"Content-Type: multipart/report; boundary=x\r\n\r\n--x\r\nContent-Type: text/plain\r\n\r\nhm\r\n--x--\r\n",
        b"Content-Type: multipart/report; boundary=x\r\n\r\n--x\r\nContent-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; a\r\n\r\n--x--\r\n",
        b"Content-Type: multipart/report\r\n\r\nno boundary at all",
        b"",
    ],
)
def test_what_is_no_delivery_status_says_nothing(raw: bytes) -> None:
    assert delivery_statuses(read(raw)) == []
