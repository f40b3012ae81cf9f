"""The clauses of docs/gateway-protocol.md, each as a check that a gateway passes or breaks."""

from __future__ import annotations

import hashlib
import io
import time
import uuid
from collections.abc import Iterator
from datetime import datetime
from decimal import Decimal
from typing import Any

import httpx
from PIL import Image

from restless_tide import tus
from restless_tide.core.answer_shapes import plain, shape_at
from restless_tide.core.applying import Answer
from restless_tide.core.catalogue import AnswerForm, Form
from restless_tide.core.documents import DRAWN, DocumentFormat, FileAnswer
from restless_tide.core.errors import Invalid
from restless_tide.core.good import GoodKind, GoodText, SoldGood, read_sold
from restless_tide.core.goods_rules import PICTURE
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.rulebook import Audience, Rulebook, read_served_rulebook
from restless_tide.gateways import protocol
from restless_tide.gateways.conformance import (
    Broken,
    Check,
    Finding,
    Material,
    NotTried,
    Suite,
    demand,
    demand_problem,
    fits,
)
from restless_tide.gateways.protocol import ConnectionFile
from restless_tide.tls import verified

LANGUAGE = "en"
"""The first language of the berth that is tried."""

# 2 Who is asking


def _token(suite: Suite) -> None:
    answer = suite.ask_token(suite.assertion())
    token = fits(answer, protocol.TokenAnswer)
    demand(token.expires_in > 0, "expires_in is not above 0")
    suite.known["a token"] = token.access_token


def _replayed(suite: Suite) -> None:
    once = suite.assertion()
    demand(suite.ask_token(once).is_success, "a fresh assertion was refused")
    demand_problem(suite.ask_token(once), (400, 401))


def _unproved(suite: Suite) -> None:
    now = int(time.time())
    unproved: dict[str, dict[str, Any]] = {
        "another audience": {"aud": "https://elsewhere.example.org/v1/token"},
        "an expired one": {"iat": now - 7200, "exp": now - 7000},
        "an unknown client": {"sub": "nobody", "iss": "nobody"},
    }
    for name, changed in unproved.items():
        answer = suite.ask_token(suite.assertion(**changed))
        demand(answer.status_code in (400, 401), f"an assertion with {name} was answered {answer.status_code}")
    head, _, rest = suite.assertion().rpartition(".")
    demand_problem(suite.ask_token(f"{head}.{rest[::-1]}"), (400, 401))


def _closed(suite: Suite) -> None:
    for method, path in (("GET", "/v1/rulebook"), ("GET", "/v1/events"), ("GET", "/v1/account")):
        demand_problem(suite.http.request(method, path), (401,))
        bad = {"Authorization": "Bearer not-a-token"}
        demand_problem(suite.http.request(method, path, headers=bad), (401,))


# 1 How it is spoken


def _clock(suite: Suite) -> None:
    told = suite.call("GET", "/v1/account").headers.get(protocol.CLOCK_HEADER, "")
    try:
        instant = datetime.fromisoformat(told)
    except ValueError:
        raise Broken(f"{protocol.CLOCK_HEADER} is {told!r}, no instant") from None
    demand(instant.tzinfo is not None, f"{protocol.CLOCK_HEADER} has no zone")


def _unknown(suite: Suite) -> None:
    demand_problem(suite.call("GET", "/v1/consignments/nothing-of-the-kind"), (404,))
    demand_problem(suite.call("GET", "/v1/nothing-of-the-kind"), (404,))
    demand_problem(suite.call("POST", "/v1/berths", key=str(uuid.uuid4()), body={"name": 1}), (400, 422))


def _key_needed(suite: Suite) -> None:
    answer = suite.call("POST", "/v1/berths", body=_berth_wanted(suite))
    demand_problem(answer, (400, 422))


# 3 What is so


def _rulebook(suite: Suite) -> None:
    answer = suite.call("GET", "/v1/rulebook")
    demand(answer.is_success, f"it was answered {answer.status_code}")
    try:
        rules = suite.known["a rulebook"] = read_served_rulebook(answer.content, "the gateway")
    except Invalid as wrong:
        raise Broken(wrong.detail) from None
    etag = answer.headers.get("etag", "")
    demand(etag == f'"{rules.revision}"', f"the ETag is {etag or 'missing'}, not the revision {rules.revision!r}")
    again = suite.call("GET", "/v1/rulebook", headers={"If-None-Match": etag})
    demand(again.status_code == 304, f"with If-None-Match it was answered {again.status_code}, not 304")


def _announced(suite: Suite) -> None:
    answer = suite.call("GET", "/v1/rulebook/next")
    if answer.status_code == 404:
        demand_problem(answer, (404,), "none-announced")
        return
    try:
        following = read_served_rulebook(answer.content, "the gateway")
    except Invalid as wrong:
        raise Broken(wrong.detail) from None
    rules: Rulebook = suite.known["a rulebook"]
    demand(following.in_force_since > rules.in_force_since, "the announced revision is not later than the one in force")


def _account(suite: Suite) -> None:
    account = fits(suite.call("GET", "/v1/account"), protocol.Account)
    beyond = set(account.may) - set(protocol.RIGHTS)
    demand(not beyond, f"unknown rights: {', '.join(sorted(beyond))}")


# 4 Berths


def _berth_wanted(suite: Suite) -> protocol.BerthRequest:
    rules: Rulebook = suite.known["a rulebook"]
    facts = suite.material.facts
    if facts.platform not in rules.platforms:
        raise NotTried(f"the package is for {facts.platform}; {rules.store} carries {', '.join(rules.platforms)}")
    name = f"Check {uuid.uuid4().hex[:8]}"
    return protocol.BerthRequest(
        identifier=facts.identifier, name=name, platform=facts.platform, language=LANGUAGE, reference="conformance"
    )


def _berth(suite: Suite) -> None:
    wanted = _berth_wanted(suite)
    answer = suite.done("/v1/berths", protocol.BerthAnswer, wanted, "a berth")
    demand(answer.identifier == wanted.identifier, "the berth is for another identifier")
    suite.known["a berth"] = answer.id
    suite.known["the berth's name"] = wanted.name


def _berth_taken(suite: Suite) -> None:
    other = _berth_wanted(suite).model_copy(update={"identifier": f"org.example.n{uuid.uuid4().hex[:8]}"})
    taken = other.model_copy(update={"name": suite.known["the berth's name"]})
    demand_problem(suite.call("POST", "/v1/berths", key=str(uuid.uuid4()), body=taken), (409,), "name-taken")


def _renamed(suite: Suite) -> None:
    berth, name = suite.known["a berth"], f"Check {uuid.uuid4().hex[:8]}"
    path, body = f"/v1/berths/{berth}/name", protocol.NameRequest(name=name)
    answer = fits(suite.call("POST", path, key=str(uuid.uuid4()), body=body), protocol.BerthAnswer)
    demand((answer.id, answer.name) == (berth, name), "the berth has another name than was asked for")
    suite.known["the berth's name"] = name


def _same_key(suite: Suite) -> None:
    key, path, body, first = suite.known["the key of a berth"]
    again = suite.call("POST", path, key=key, body=body)
    demand(again.is_success and again.json() == first, "the same call under the same key got another answer")
    other = body.model_copy(update={"name": "Something else"})
    demand_problem(suite.call("POST", path, key=key, body=other), (409,), "key-reused")


def _availability(suite: Suite) -> None:
    place = f"/v1/berths/{suite.known['a berth']}/availability"
    before = fits(suite.call("GET", place), protocol.AvailabilityMessage)
    wanted = before.model_copy(update={"countries": ("DE", "NO")})
    told = suite.done(place, protocol.AvailabilityAnswer, wanted, "availability")
    demand(told.sequence is not None, "the answer does not carry the sequence of the event that told of it")
    demand(set(told.countries) == {"DE", "NO"}, "the countries set are not the countries told")
    seen = fits(suite.call("GET", place), protocol.AvailabilityMessage)
    demand(
        seen.model_dump() == told.model_dump(exclude={"sequence"}), "what is read back differs from what was answered"
    )
    unfit = {"price": "1.00", "currency": None}
    demand_problem(suite.call("POST", place, key=str(uuid.uuid4()), body=unfit), (409, 422))


def _dossier(suite: Suite) -> None:
    rules: Rulebook = suite.known["a rulebook"]
    place = f"/v1/berths/{suite.known['a berth']}/dossier"
    fits(suite.call("GET", place), protocol.Dossier)
    if not rules.listing.fields:
        raise NotTried("the rulebook names no texts")
    name, limits = next(iter(rules.listing.fields.items()))
    needed = {name} | {key for key, field in rules.listing.fields.items() if field.required or field.locales_required}
    locale, few = LANGUAGE, {key: min(rules.listing.fields[key].limit_characters, 24) for key in needed}
    wanted = protocol.TextsRequest(texts={locale: {key: _text_for(rules, key, few[key]) for key in needed}})
    suite.done(f"{place}/texts", protocol.TextsAnswer, wanted, "texts")
    seen = fits(suite.call("GET", place), protocol.Dossier)
    demand(seen.texts.get(locale) == wanted.texts[locale], "the texts read back differ")
    over = protocol.TextsRequest(texts={locale: {name: _text_for(rules, name, limits.limit_characters + 1)}})
    demand_problem(suite.call("POST", f"{place}/texts", key=str(uuid.uuid4()), body=over), (409, 413, 422))
    seen = fits(suite.call("GET", place), protocol.Dossier)
    demand(seen.texts.get(locale) == wanted.texts[locale], "texts that were refused are held all the same")


def _answers(suite: Suite) -> None:
    rules: Rulebook = suite.known["a rulebook"]
    asked, place = rules.questionnaire.questions, f"/v1/berths/{suite.known['a berth']}/dossier"
    if not asked:
        raise NotTried("the rulebook asks nothing about an app")
    answers = {key: answer_for(rules, key) for key in asked}
    given = {key: plain(answer) for key, answer in answers.items()}
    documents = [one for one in answers.values() if isinstance(one, FileAnswer)]
    uploads = {one.sha256: _upload_whole(suite, sample_document(one.format)) for one in documents}
    request = protocol.DossierAnswersRequest(answers=given, uploads=uploads)
    suite.done(f"{place}/answers", protocol.DossierAnswersAnswer, request, "answers")
    for one in documents:
        file = suite.call("GET", f"{place}/documents/{one.sha256}")
        told = hashlib.sha256(file.content).hexdigest()
        demand(told == one.sha256, "the bytes of a document are not those that were sent")
    for key, answer in answers.items():
        if isinstance(answer, FileAnswer):
            strange = protocol.DossierAnswersRequest(answers={key: {**given[key], "sha256": "0" * 64}})
            refused = suite.call("POST", f"{place}/answers", key=str(uuid.uuid4()), body=strange)
            demand_problem(refused, (409, 422), protocol.DOCUMENT_UNKNOWN)
    seen = fits(suite.call("GET", place), protocol.Dossier)
    demand(seen.answers == given, "the answers read back differ")
    unfit = protocol.DossierAnswersRequest(answers={next(iter(asked)): ["no such choice"]})
    demand_problem(suite.call("POST", f"{place}/answers", key=str(uuid.uuid4()), body=unfit), (409, 422))
    seen = fits(suite.call("GET", place), protocol.Dossier)
    demand(seen.answers == given, "answers that were refused are held all the same")


def _goods(suite: Suite) -> None:
    rules: Rulebook = suite.known["a rulebook"]
    place = f"/v1/berths/{suite.known['a berth']}/dossier"
    wanted = rules.goods
    if wanted is None:
        raise NotTried("the rulebook sells nothing inside apps")
    kind, uploads, picture = wanted.kinds[0], dict[str, str](), None
    if wanted.picture is not None and wanted.picture.fewest:
        side = wanted.picture.sizes[0] if wanted.picture.sizes else (wanted.picture.smallest_side,) * 2
        content = _file(Image.new("RGB", side, (40, 120, 110)), str(wanted.classes.picture_formats(PICTURE)[0]))
        picture = hashlib.sha256(content).hexdigest()
        uploads[picture] = _upload_whole(suite, content)
    text = GoodText(name="A good", description="What it is.")
    good = SoldGood(
        kind=kind,
        price=wanted.lowest_price or Decimal("1.50"),
        currency=(wanted.currencies or ("EUR",))[0],
        months=(wanted.months or (1,))[0] if kind is GoodKind.RENEWED else None,
        texts=dict.fromkeys((LANGUAGE, *wanted.locales_required), text),
        picture=picture,
    )
    goods = {"a-good": good}
    suite.done(f"{place}/goods", protocol.GoodsAnswer, protocol.GoodsRequest.of(goods, uploads), "goods")
    seen = fits(suite.call("GET", place), protocol.Dossier)
    demand(
        {name: read_sold(one.model_dump()) for name, one in seen.goods.items()} == goods, "the goods read back differ"
    )
    over = good.model_copy(update={"texts": {**good.texts, LANGUAGE: GoodText(name="n" * (wanted.name_limit + 1))}})
    unfit = protocol.GoodsRequest.of({"a-good": over}, {})
    demand_problem(suite.call("POST", f"{place}/goods", key=str(uuid.uuid4()), body=unfit), (409, 413, 422))
    seen = fits(suite.call("GET", place), protocol.Dossier)
    demand(seen.goods["a-good"].texts == good.texts, "goods that were refused are held all the same")


def _pictures(suite: Suite) -> None:
    rules: Rulebook = suite.known["a rulebook"]
    listing, berth = rules.listing, suite.known["a berth"]
    wanted = {key: rule for key, rule in listing.pictures.items() if rule.fewest}
    if not wanted:
        raise NotTried("the rulebook demands no pictures")
    sets = {key: tuple(_picture_sent(suite, one) for one in _drawn(rules, key)) for key in wanted}
    place = f"/v1/berths/{berth}/dossier"
    request = protocol.PicturesRequest(pictures={LANGUAGE: sets})
    suite.done(f"{place}/pictures", protocol.PicturesAnswer, request, "pictures")
    held = request.digests()[LANGUAGE]
    seen = fits(suite.call("GET", place), protocol.Dossier)
    demand(seen.pictures.get(LANGUAGE) == held, "the pictures read back differ")
    key = next(iter(wanted))
    file = suite.call("GET", f"{place}/pictures/{held[key][0]}")
    told = hashlib.sha256(file.content).hexdigest()
    demand(told == held[key][0], "the bytes of a picture are not those that were sent")
    again = protocol.PicturesRequest(
        pictures={LANGUAGE: {key: tuple(one.model_copy(update={"upload": None}) for one in sets[key])}}
    )
    suite.done(f"{place}/pictures", protocol.PicturesAnswer, again, "the same pictures without an upload")
    strange = protocol.PictureSent(sha256="0" * 64, media_type="image/png", size_bytes=1)
    unknown = protocol.PicturesRequest(pictures={LANGUAGE: {key: (strange,)}})
    answer = suite.call("POST", f"{place}/pictures", key=str(uuid.uuid4()), body=unknown)
    demand_problem(answer, (409, 422), protocol.PICTURE_UNKNOWN)
    small = _picture_sent(suite, _file(Image.new("RGB", (3, 2)), "png"))
    unfit = protocol.PicturesRequest(pictures={LANGUAGE: {key: (small,) * wanted[key].fewest}})
    demand_problem(suite.call("POST", f"{place}/pictures", key=str(uuid.uuid4()), body=unfit), (409, 413, 422))
    seen = fits(suite.call("GET", place), protocol.Dossier)
    demand(seen.pictures.get(LANGUAGE) == held, "pictures that were refused are held all the same")


def _drawn(rules: Rulebook, key: str) -> list[bytes]:
    """So many plain pictures as a class demands, in the sides and the format that it takes."""
    rule, kind = rules.listing.pictures[key], str(rules.listing.picture_formats(key)[0])
    shorter = max(rule.smallest_side, 16)
    sizes = list(rule.sizes) or [(shorter, shorter)]
    mode = "RGBA" if rule.transparent == "required" else "RGB"
    chosen = sizes if rule.every_size else sizes[:1]
    return [_file(_half_and_half(mode, size, 40 + 20 * at), kind) for at in range(rule.fewest) for size in chosen]


def _half_and_half(mode: str, size: tuple[int, int], red: int) -> Image.Image:
    """A picture that shows something: a reviewer refuses one of a single colour."""
    drawn = Image.new(mode, size, (red, 120, 110))
    drawn.paste((240, 240, 230), (0, 0, size[0], size[1] // 2))
    return drawn


def _file(picture: Image.Image, kind: str) -> bytes:
    out = io.BytesIO()
    picture.save(out, kind)
    return out.getvalue()


def _picture_sent(suite: Suite, content: bytes) -> protocol.PictureSent:
    """Upload a picture, and name it as a set does."""
    upload = _upload_whole(suite, content)
    kind = Image.open(io.BytesIO(content)).format or ""
    return protocol.PictureSent(
        sha256=hashlib.sha256(content).hexdigest(),
        media_type=f"image/{kind.lower()}",
        size_bytes=len(content),
        upload=upload,
    )


def _upload_whole(suite: Suite, content: bytes) -> str:
    headers = tus.to_begin(len(content))
    address = f"/v1/berths/{suite.known['a berth']}/uploads"
    made = suite.call("POST", address, key=str(uuid.uuid4()), headers=headers)
    upload = str(fits(made, protocol.UploadAnswer).id)
    _append(suite, f"/v1/uploads/{upload}", 0, content)
    return upload


def sample_document(kind: DocumentFormat) -> bytes:
    """A small document in this format."""
    if kind in DRAWN:
        return _file(Image.new("RGB", (24, 16), (40, 120, 110)), str(kind))
    return b"%PDF-1.4\n1 0 obj << >> endobj\ntrailer << >>\n%%EOF\n" if kind is DocumentFormat.PDF else b"As it is.\n"


def answer_for(rules: Rulebook, key: str) -> Answer:
    """The first answer to a question that the store does not refuse; of words and numbers the least."""
    shape = shape_at(rules, key)
    choices = [choice for choice in shape.choices if choice not in rules.questionnaire.questions[key].refused_answers]
    match shape.form:
        case AnswerForm.CHOICE:
            return choices[0]
        case AnswerForm.CHOICES:
            return (choices[0],)
        case AnswerForm.NUMBER:
            return shape.lowest
        case AnswerForm.GRID:
            return dict.fromkeys(shape.kinds, ())
        case AnswerForm.FILE:
            kind = rules.questionnaire.documents(key)[0]
            content = sample_document(kind)
            return FileAnswer(hashlib.sha256(content).hexdigest(), f"sample.{kind}", kind, len(content))
    return "As it is."


def _text_for(rules: Rulebook, field: str, length: int) -> str:
    begin = "https://example.org/" if rules.listing.form(field) is Form.ADDRESS else ""
    return begin + "x" * (length - len(begin))


# 5 Packages and consignments


def _upload(suite: Suite) -> None:
    content, berth = suite.material.package, suite.known["a berth"]
    half = len(content) // 2
    headers = tus.to_begin(len(content))
    made = suite.call("POST", f"/v1/berths/{berth}/uploads", key=str(uuid.uuid4()), headers=headers)
    place = f"/v1/uploads/{fits(made, protocol.UploadAnswer).id}"
    demand(_offset(suite, place) == 0, "a new upload does not begin at offset 0")
    _append(suite, place, 0, content[:half])
    demand(_offset(suite, place) == half, "after half of the bytes the offset is not the half")
    wrong = suite.call("PATCH", place, headers=tus.to_go_on(0, content[:10]), content=content[:10])
    demand_problem(wrong, (409,), "offset-differs")
    broken = suite.call("PATCH", place, headers=tus.to_go_on(half, b"other bytes"), content=content[half:])
    demand_problem(broken, (460,), "checksum-differs")
    _append(suite, place, half, content[half:])
    suite.known["an upload"] = place.rpartition("/")[2]


def _terminated(suite: Suite) -> None:
    headers = tus.to_begin(10)
    made = suite.call("POST", f"/v1/berths/{suite.known['a berth']}/uploads", key=str(uuid.uuid4()), headers=headers)
    place = f"/v1/uploads/{fits(made, protocol.UploadAnswer).id}"
    demand(suite.call("HEAD", place).headers.get("upload-expires"), "an upload does not say when it expires")
    gone = suite.call("DELETE", place, headers=tus.SPOKEN)
    demand(gone.status_code == 204, f"the end of an upload was answered {gone.status_code}, not 204")
    demand(suite.call("HEAD", place).status_code in (404, 410), "an ended upload is still there")


def _offset(suite: Suite, place: str) -> int:
    answer = suite.call("HEAD", place, headers=tus.SPOKEN)
    demand(answer.is_success, f"HEAD {place} was answered {answer.status_code}")
    return int(answer.headers.get("upload-offset", "-1"))


def _append(suite: Suite, place: str, offset: int, block: bytes) -> None:
    answer = suite.call("PATCH", place, headers=tus.to_go_on(offset, block), content=block)
    demand(answer.status_code == 204, f"PATCH was answered {answer.status_code}: {answer.text[:200]}")
    demand(answer.headers.get("upload-offset") == str(offset + len(block)), "the new Upload-Offset is wrong")


def _consignment(suite: Suite) -> None:
    facts, rules = suite.material.facts, suite.known["a rulebook"]
    place = f"/v1/berths/{suite.known['a berth']}/consignments"
    wanted = protocol.ConsignmentRequest(
        uploads=(suite.known["an upload"],), version=facts.version, number=facts.number
    )
    if rules.packages.first_build_by_hand:
        answer = suite.call("POST", place, key=str(uuid.uuid4()), body=wanted)
        demand_problem(answer, (409,), protocol.FIRST_BUILD_BY_HAND)
        suite.material.ask("This store takes the first build by hand: hand the package in on its own pages now.")
        told = suite.wait(lambda: _handed_in(suite), lambda seen: seen is not None, "the hand-in on the store's pages")
    else:
        told = suite.done(place, protocol.ConsignmentAnswer, wanted, "a consignment").id
    where = f"/v1/consignments/{told}"

    def look() -> protocol.ConsignmentAnswer:
        seen: protocol.ConsignmentAnswer = fits(suite.call("GET", where), protocol.ConsignmentAnswer)
        return seen

    ended = suite.wait(look, lambda seen: seen.state != "processing", "the processing")
    while ended.state == "held":
        demand(ended.questions, "a held build asks no question")
        answers = {question.code: question.choices[-1] for question in ended.questions}
        ended = suite.done(f"{where}/answers", protocol.ConsignmentAnswer, {"answers": answers}, "answers")
    demand(ended.state == "ready", f"the package given is {ended.state}: {ended.reason}")
    suite.known["a ready build"] = told


def _handed_in(suite: Suite) -> str | None:
    """The consignment that someone handed in on the store's own pages, as its event tells."""
    berth, facts = suite.known["a berth"], suite.material.facts
    for event in suite.events():
        data = event.data
        number = BuildNumber(data.get("number", 0))
        same = (data.get("berth"), data.get("version"), number) == (berth, facts.version, facts.number)
        if event.type == "consignment.changed" and same:
            return event.subject
    return None


def _holdings(suite: Suite) -> None:
    demand(suite.known["a ready build"], "")
    held = fits(suite.call("GET", f"/v1/berths/{suite.known['a berth']}/holdings"), protocol.Holdings)
    facts = suite.material.facts
    demand(
        any((build.version, build.number) == (facts.version, facts.number) for build in held.builds),
        "the build sent is not among the holdings",
    )


# 6 Trials


def _trial(suite: Suite) -> None:
    rules: Rulebook = suite.known["a rulebook"]
    kind = next(iter(rules.cohorts), None)
    if kind is None:
        raise NotTried("the rulebook knows no testers")
    wanted = protocol.TrialRequest(
        consignment=suite.known["a ready build"],
        kind=kind,
        cohort="check",
        brief={"en": "Look.", **dict.fromkeys(rules.cohorts[kind].brief_locales_required, "Look.")},
        contact="check@example.org",
        sign_in={"how": "no sign-in is needed"},
        testers=("a@example.org",),
    )
    told = suite.done(f"/v1/berths/{suite.known['a berth']}/trials", protocol.TrialAnswer, wanted, "a trial")
    place = f"/v1/trials/{told.id}"
    for _ in range(2):
        suite.done(f"{place}/testers", protocol.TrialAnswer, {"addresses": ["b@example.org"]}, "a seat")
    seen = fits(suite.call("GET", place), protocol.TrialAnswer)
    demand(seen.seats_taken == 2, f"the same address twice is one seat, not {seen.seats_taken} with the first")
    suite.done(f"{place}/removals", protocol.TrialAnswer, {"addresses": ["b@example.org"]}, "a removal")
    demand(fits(suite.call("GET", place), protocol.TrialAnswer).seats_taken == 1, "a removed tester keeps the seat")
    fits(suite.call("GET", f"{place}/usage"), protocol.Usage)
    ended = suite.done(f"{place}/close", protocol.TrialAnswer, None, "the end of a trial")
    demand(ended.state == "closed", f"a closed trial is {ended.state}")


# 4.5 and 4.6 Tracks


def _tracks(suite: Suite) -> None:
    rules: Rulebook = suite.known["a rulebook"]
    answer = suite.call("GET", f"/v1/berths/{suite.known['a berth']}/tracks")
    if answer.status_code == 404 and not rules.tracks:
        raise NotTried("the rulebook names no tracks, and the gateway tells none")
    keys = [track.key for track in fits(answer, protocol.Tracks).tracks if not track.own]
    demand(set(keys) == set(rules.ways), f"it tells {', '.join(keys)}; the rulebook has {', '.join(rules.ways)}")
    staged = [key for key, way in rules.tracks.items() if way.audience is not Audience.COHORTS]
    beyond = protocol.SubmissionRequest(
        consignment=suite.known["a ready build"], version=suite.material.facts.version, notes={}, track="no-such-track"
    )
    if staged:
        place = f"/v1/berths/{suite.known['a berth']}/submissions"
        demand_problem(suite.call("POST", place, key=str(uuid.uuid4()), body=beyond), (409,), "track-unfit")


def _own_tracks(suite: Suite) -> None:
    rules: Rulebook = suite.known["a rulebook"]
    place = f"/v1/berths/{suite.known['a berth']}/tracks"
    wanted = protocol.TrackRequest(key="check", title="Check")
    if rules.own_tracks is None:
        refused = suite.call("POST", place, key=str(uuid.uuid4()), body=wanted)
        demand_problem(refused, (404, 409))
        return
    opened = suite.done(place, protocol.TrackAnswer, wanted, "a track")
    demand(opened.own and not opened.closed, "a track that was opened is not the team's own, or closed")
    demand_problem(suite.call("POST", place, key=str(uuid.uuid4()), body=wanted), (409,), "track-known")
    named = suite.done(f"{place}/check/title", protocol.TrackAnswer, {"title": "Looked at"}, "a track's title")
    demand(named.title == "Looked at", f"after it was renamed, the track is called {named.title!r}")
    told = [event for event in suite.events() if event.type == "track.changed" and event.subject == "check"]
    demand(len(told) >= 2, "the opening and the renaming of a track were not told as track.changed")
    closed = suite.done(f"{place}/check/close", protocol.TrackAnswer, None, "the end of a track")
    demand(closed.closed, "a track that was closed is not closed")
    demand_problem(suite.call("POST", f"{place}/check/close", key=str(uuid.uuid4()), body={}), (404,), "track-unknown")


# 7 Submissions and rounds, 8 Rollouts


def _decided(suite: Suite, submission: str) -> bool:
    """Whether the store was quicker than the suite."""
    return suite.last_state("submission.changed", submission) in ("approved", "rejected")


def _submission(suite: Suite) -> None:
    rules: Rulebook = suite.known["a rulebook"]
    notes = dict.fromkeys(rules.review.notes_locales_required, "What is new.") or {"en": "What is new."}
    version = suite.material.facts.version
    wanted = protocol.SubmissionRequest(
        consignment=suite.known["a ready build"], version=version, notes=notes, items=rules.review.go_together
    )
    place = f"/v1/berths/{suite.known['a berth']}/submissions"
    first = suite.done(place, protocol.SubmissionAnswer, wanted, "a submission")
    again = suite.call("POST", place, key=str(uuid.uuid4()), body=wanted)
    second = first
    if not _decided(suite, first.id):
        demand_problem(again, (409,), "already-under-review")
        suite.known["a submission under review"] = first.id
        _written_to(suite)
        key = str(uuid.uuid4())
        back = suite.call("POST", f"/v1/submissions/{first.id}/recall", key=key)
        if back.is_success:
            state = fits(back, protocol.SubmissionAnswer).state
            demand(state == "recalled", f"a recalled submission is {state}")
            second = suite.done(place, protocol.SubmissionAnswer, wanted, "a submission again")
        else:
            demand(_decided(suite, first.id), f"a recall was answered {back.status_code}")
    elif again.is_success:
        second = fits(again, protocol.SubmissionAnswer)
    verdict = suite.wait(
        lambda: suite.last_state("submission.changed", second.id),
        lambda state: state in ("approved", "rejected"),
        "the review",
    )
    if verdict == "rejected":
        raise NotTried("the review rejected the package given; rollouts cannot be tried")
    suite.known["an approved submission"] = second.id


def _items(suite: Suite) -> None:
    """What does not go together is refused, and so is a submission that lacks what always goes."""
    place = f"/v1/berths/{suite.known['a berth']}/submissions"
    for items, code in ((("build", "notes", "no-such-item"), "item-not-taken"), (("notes",), "items-missing")):
        wanted = protocol.SubmissionRequest(
            consignment=suite.known["a ready build"], version=suite.material.facts.version, notes={}, items=items
        )
        answer = suite.call("POST", place, key=str(uuid.uuid4()), body=wanted)
        demand_problem(answer, (409,), None if _under_review(answer) else code)


def _under_review(answer: httpx.Response) -> bool:
    """Whether a submission was refused because another one is looked at, which a store may find out first."""
    return answer.status_code == 409 and answer.json().get("code") == "already-under-review"


def _appealed(suite: Suite) -> None:
    """What was approved is not appealed, and nobody reads about it any more."""
    place = f"/v1/submissions/{suite.known['an approved submission']}"
    body = protocol.MessageRequest(words="Please look again.")
    demand_problem(suite.call("POST", f"{place}/appeals", key=str(uuid.uuid4()), body=body), (409,), "not-refused")
    written = suite.call("POST", f"{place}/messages", key=str(uuid.uuid4()), body=body)
    demand_problem(written, (409,), "not-under-review")
    demand_problem(suite.call("GET", f"{place}/files/{'0' * 64}"), (404,))


def _written_to(suite: Suite) -> None:
    """A reviewer is written to while a submission is looked at."""
    submission = suite.known["a submission under review"]
    body = protocol.MessageRequest(words="The first page needs no network.")
    told = suite.done(f"/v1/submissions/{submission}/messages", protocol.MessageAnswer, body, "a message")
    demand(told.submission == submission, f"a message about {submission} is told to be about {told.submission}")


def _rollout(suite: Suite) -> None:
    rules: Rulebook = suite.known["a rulebook"]
    ladder = rules.rollout.dictated_ladder
    share = ladder.stages[0].share if ladder else 0.05
    place = f"/v1/submissions/{suite.known['an approved submission']}/rollout"
    told = suite.done(place, protocol.RolloutAnswer, {"share": share}, "a launch")
    demand(
        (told.state, told.share) == ("rising", share), f"a launch to {share:.0%} is {told.state} at {told.share:.0%}"
    )
    demand_problem(suite.call("POST", place, key=str(uuid.uuid4()), body={"share": share}), (409,), "launched-already")
    for act, state in (("pause", "paused"), ("resume", "rising")):
        seen = suite.done(f"{place}/{act}", protocol.RolloutAnswer, {"reason": "check"}, act)
        demand(seen.state == state, f"after {act} it is {seen.state}, not {state}")
    below = {"share": share / 2}
    demand_problem(suite.call("POST", f"{place}/share", key=str(uuid.uuid4()), body=below), (409, 422))


def _halted(suite: Suite) -> None:
    place = f"/v1/submissions/{suite.known['an approved submission']}/rollout"
    demand(suite.known["the key of a launch"], "")
    told = suite.done(f"{place}/halt", protocol.RolloutAnswer, {"reason": "check"}, "a halt")
    demand(told.state == "halted", f"after a halt it is {told.state}")
    halts = [event for event in suite.events() if event.data.get("state") == "halted"]
    sequences = [event.sequence for event in halts if event.type == "rollout.changed"]
    demand(told.sequence in sequences, "the answer does not carry the sequence of the event that told of the halt")
    key, path, body, first = suite.known["the key of a halt"]
    again = suite.call("POST", path, key=key, body=body)
    demand(again.is_success and again.json() == first, "a halt repeated under its key got another answer")
    other = suite.call("POST", path, key=str(uuid.uuid4()), body=body)
    demand_problem(other, (409,), protocol.ACT_IMPOSSIBLE)


def _gauges(suite: Suite) -> None:
    place = f"/v1/berths/{suite.known['a berth']}/gauges"
    page = fits(suite.call("GET", place), protocol.GaugePage)
    again = fits(suite.call("GET", f"{place}?after={page.next}"), protocol.GaugePage)
    demand(not again.hours or again.next != page.next, "what was reported before the cursor is reported again after it")


# 9 Events


def _events(suite: Suite) -> None:
    events = suite.events()
    if not events:
        raise NotTried("the store has told nothing yet")
    first = events[0].sequence
    numbers = [event.sequence for event in events]
    demand(numbers == list(range(first, first + len(events))), "the sequence has gaps or goes back")
    demand(len({event.id for event in events}) == len(events), "two events carry the same id")
    middle = events[len(events) // 2].sequence
    again = [event.id for event in suite.events(middle)]
    told = [event.id for event in events if event.sequence > middle]
    demand(again[: len(told)] == told, "replayed differently")
    halts = [event for event in events if event.type == "rollout.changed" and event.data.get("state") == "halted"]
    demand(halts or "the key of a halt" not in suite.known, "the halt was not told")


def _keys(suite: Suite) -> None:
    key = suite.known["the key of a halt"][0]
    halts = [
        event for event in suite.events() if event.type == "rollout.changed" and event.data.get("state") == "halted"
    ]
    demand(any(event.key == key for event in halts), "the event that told of a halt does not carry the key of its call")


def _pushes(suite: Suite) -> None:
    address = "http://127.0.0.1:9/events"
    made = suite.done("/v1/pushes", protocol.PushAnswer, {"address": address}, "a push")
    demand((made.secret or "").startswith("whsec_"), "the secret is not a Standard Webhooks secret (whsec_…)")
    renewed = suite.done(f"/v1/pushes/{made.id}/rotation", protocol.PushAnswer, None, "a rotation")
    demand(renewed.secret and renewed.secret != made.secret, "the rotation gave no new secret")
    ended = suite.done(f"/v1/pushes/{made.id}/end", protocol.PushAnswer, None, "the end of a push")
    demand(ended.secret is None, "the secret is told again")


def _drill(suite: Suite) -> None:
    answer = suite.call("POST", "/v1/drills", key=str(uuid.uuid4()), body={"act": "halt"})
    if answer.status_code == 404:
        raise NotTried("this gateway has no drills, which it need not have")
    fits(answer, protocol.DrillAnswer)


CLAUSES: list[Check] = [
    ("2.1", "a signed assertion is answered with a bearer token", _token),
    ("2.2", "an assertion counts once", _replayed),
    ("2.3", "an assertion that does not prove who asks is refused", _unproved),
    ("2.4", "nothing else is answered without a token", _closed),
    ("1.2", "every answer carries the store's own clock", _clock),
    ("1.4", "what is unknown or unfit is a problem document with a code", _unknown),
    ("3.1", "the rulebook fits its schema and is served with its revision", _rulebook),
    ("1.3", "a call that changes something needs an idempotency key", _key_needed),
    ("3.2", "the next revision is announced with its date, or none is", _announced),
    ("3.3", "the account tells its standing and what the key may", _account),
    ("4.1", "a berth is opened", _berth),
    ("4.1", "a taken name is refused as such", _berth_taken),
    ("4.2", "a berth is renamed", _renamed),
    ("1.3", "the same key gives the same answer; another call under it is a conflict", _same_key),
    ("4.3", "availability is set and read back", _availability),
    ("4.4", "the dossier is written within the rulebook's limits and read back", _dossier),
    ("4.4", "pictures are held in the rulebook's sizes, whole and in their order, and read back", _pictures),
    ("4.4", "questions are answered with the rulebook's choices and read back", _answers),
    ("4.4", "goods are held as the rulebook wants them and read back; what it does not take is refused", _goods),
    ("5.1", "a package is uploaded by tus, resumed and checked", _upload),
    ("5.2", "an upload expires and can be ended", _terminated),
    ("5.3", "a consignment is processed, its questions answered", _consignment),
    ("3.4", "the holdings list every build seen", _holdings),
    ("4.5", "the tracks of a berth are those of the rulebook, and no other is taken", _tracks),
    ("4.6", "a track of the team's own is opened, renamed and closed", _own_tracks),
    ("6.1", "a trial is opened, seats taken and given back, closed", _trial),
    ("7.1", "a submission is taken, recalled and judged", _submission),
    ("7.2", "items that do not go together are refused", _items),
    ("7.4", "what was approved is not appealed, and its reviewer is written to no more", _appealed),
    ("8.1", "a rollout is launched, paused and resumed; a share only rises", _rollout),
    ("8.2", "a halt is done once, and refused as impossible when there is nothing to halt", _halted),
    ("8.3", "gauges are told", _gauges),
    ("9.1", "events are numbered without gaps and can be replayed", _events),
    ("9.3", "an event carries the key of the call that caused it", _keys),
    ("9.2", "events are pushed, signed with a secret that can be renewed", _pushes),
    ("8.4", "a drill goes the whole way and changes nothing", _drill),
]


def check(connection: ConnectionFile, material: Material) -> Iterator[Finding]:
    """Run the suite. The gateway is reached at the address in the connection file."""
    with httpx.Client(
        base_url=connection.gateway, timeout=20, trust_env=False, verify=verified(connection.gateway)
    ) as http:
        yield from Suite(connection, material, http, CLAUSES).run()
