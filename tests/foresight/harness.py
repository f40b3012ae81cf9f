"""One case after the other against a real gateway: foretold by core, judged by the stand-in's own code."""

from __future__ import annotations

import random
import uuid
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from datetime import timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import httpx

from restless_tide.core.answer_checks import against_answers
from restless_tide.core.answer_shapes import plain, read_answer, shape_at, thawed, untranslated
from restless_tide.core.answers import AnswersAt, asked, differing_answers
from restless_tide.core.applying import Answer
from restless_tide.core.applying import Case as Conditions
from restless_tide.core.availability import Availability
from restless_tide.core.berth import BerthState
from restless_tide.core.catalogue import PictureForm
from restless_tide.core.consignment import ConsignmentState
from restless_tide.core.errors import Invalid, Level, StoreRefused
from restless_tide.core.good import Good, SoldGood
from restless_tide.core.goods import GoodsAt, against_sending_goods, differing_goods, good_recipes
from restless_tide.core.graph import Standing, locked, open_and_locked
from restless_tide.core.known import BuildKnown, Known, LegKnown, Paper
from restless_tide.core.leg import LegPhase
from restless_tide.core.packages import Facts, inspect_package
from restless_tide.core.picture_sets import (
    PicturesAt,
    against_sending_sets,
    differing_sets,
    recipes,
    taken_sets,
)
from restless_tide.core.questions import refused_for
from restless_tide.core.readiness import check_push, demand_name
from restless_tide.core.review_items import ALWAYS
from restless_tide.core.rulebook import LocksAt, Rulebook
from restless_tide.core.sheet import offer_findings, sheet
from restless_tide.core.signing import Expected
from restless_tide.core.texts import TextsAt, against_sending, differing
from restless_tide.core.versions import Held
from restless_tide.desk import documents
from restless_tide.desk.parts import flat
from restless_tide.gateways import protocol
from restless_tide.gateways.client import Gateway, read_connection_file
from restless_tide.standins.gateway import standin_app
from restless_tide.standins.store import SimulatedStore
from tests.foresight.cases import EARLIER, LANGUAGE, LIVE, Case, break_rule, possible, sound, sound_good, sound_reply
from tests.foresight.gallery import gallery, sides
from tests.listening import running
from tests.patience import OPENLY
from tests.ports import own_ports

SMALL_BYTES = 120_000
"""The largest package while this runs, so that a package can be too large for it."""
CASES_OF_A_STORE = 80
"""A store is opened anew after so many cases, since it looks through all it holds with each turn."""
Foretell = Callable[[Rulebook, Known], list[str]]


@dataclass
class Tally:
    """What came of it: ``refused`` and ``foretold`` by rule, and each miss with the seed that shows it again."""

    cases: int = 0
    acts: Counter[str] = field(default_factory=Counter)
    tried: Counter[str] = field(default_factory=Counter)
    refused: Counter[str] = field(default_factory=Counter)
    foretold: Counter[str] = field(default_factory=Counter)
    needless: int = 0
    misses: list[str] = field(default_factory=list)
    seen: set[str] = field(default_factory=set)

    def never(self, books: Sequence[Rulebook]) -> set[str]:
        """Rules that these rulebooks have and no case broke."""
        return {f"{rules.store}: {rule}" for rules in books for rule in rules_that_can_break(rules)} - self.seen

    def told(self) -> str:
        refused, foretold = sum(self.refused.values()), sum(self.foretold.values())
        share = f"{foretold / refused:.1%}" if refused else "–"
        lines = [
            f"{self.cases} cases, {sum(self.acts.values())} acts at the stores' gateways.",
            f"{refused} refusals, {foretold} foretold ({share}); {self.needless} blockers that a store did not mind.",
            "", f"{'rule':54} {'broken':>7} {'refused':>8} {'foretold':>9}   (refused: where it alone was broken)",
        ]  # fmt: skip
        lines += [
            f"{rule:54} {self.tried[rule]:7} {self.refused[rule]:8} {self.foretold[rule]:9}"
            for rule in sorted(self.tried)
        ]
        lines += ["", *self.misses] if self.misses else []
        return "\n".join(lines)


def rules_that_can_break(rules: Rulebook) -> set[str]:
    """Every rule of a rulebook that an app, with a live release or without, can break."""
    found: set[str] = set()
    for live in (False, True):
        case = replace(sound("any", rules, random.Random(0)), live=live)
        found |= set(possible(case))
    return found


@contextmanager
def opened(rules: Rulebook, folder: Path) -> Iterator[tuple[SimulatedStore, Gateway]]:
    """A stand-in without whims, and the gateway's client on it."""
    port = own_ports().desk
    store = SimulatedStore(rules, folder)
    with running(standin_app(store, f"http://127.0.0.1:{port}"), port) as address:
        connection = httpx.post(f"{address}/control/connections", json={}, **OPENLY).raise_for_status().text
        gateway = Gateway(read_connection_file(connection), name=rules.store)
        try:
            yield store, gateway
        finally:
            gateway.close()
    store.shelf.close()


def within_reach(rules: Rulebook) -> Rulebook:
    """The same rules, with a largest package that can be made in no time, and no first build by hand."""
    packages = rules.packages.model_copy(update={"largest_bytes": SMALL_BYTES, "first_build_by_hand": False})
    return rules.model_copy(update={"packages": packages})


def made(rules: Rulebook, seed: int, wanted: Sequence[str] | None = None) -> Case:
    """The case of a seed: it breaks no rule, one or two, or those that are wanted of the ones it can."""
    dice = random.Random(seed)
    case = sound(f"app{seed:x}", rules, dice)
    if wanted is not None:
        for rule in wanted:
            if rule in possible(case):
                break_rule(case, rule, dice)
        return case
    for _ in range(dice.choice((0, 1, 1, 1, 2))):
        left = [rule for rule in possible(case) if rule not in case.broken]
        break_rule(case, dice.choice(left), dice)
    return case


def run(
    rules: Rulebook,
    seeds: Sequence[int],
    folder: Path,
    tally: Tally,
    foretelling: Rulebook | None = None,
    wanted: Sequence[str] | None = None,
) -> None:
    """Try one case for each seed, which breaks the rules that are ``wanted``, or some.

    ``foretelling``: the rules by which the sheet is made, if they are not the store's.
    """
    near = within_reach(rules)
    for at in range(0, len(seeds), CASES_OF_A_STORE):
        place = folder / f"{rules.store}-{uuid.uuid4().hex}"
        place.mkdir()
        with opened(near, place) as (store, gateway):
            for seed in seeds[at : at + CASES_OF_A_STORE]:
                _Trial(made(near, seed, wanted), seed, store, gateway, place, tally, foretelling or near).go()


class _Trial:
    """One case on its way: each act is foretold, done, and compared."""

    def __init__(
        self,
        case: Case,
        seed: int,
        store: SimulatedStore,
        gateway: Gateway,
        folder: Path,
        tally: Tally,
        rules: Rulebook,
    ) -> None:
        self.case, self.seed, self.store, self.gateway, self.folder, self.tally = (
            case,
            seed,
            store,
            gateway,
            folder,
            tally,
        )
        self.rules = rules
        self.berth = ""
        self.held: list[Held] = []
        self.texts: dict[str, dict[str, str]] = {}
        self.pictures: dict[str, tuple[str, ...]] = {}
        self.answers: dict[str, Any] = {}
        self.goods: dict[str, SoldGood] = {}
        self.live = self.under_review = False
        self.expected = Expected()
        self.offered = Availability()

    def go(self) -> None:
        case, tally = self.case, self.tally
        tally.cases += 1
        tally.tried.update(case.broken)
        tally.seen |= {f"{case.rules.store}: {rule}" for rule in case.broken}
        papers = "valid" if case.papers_valid else "missing"
        blocks = ["price", "free-or-paid"]
        with self.store.shelf.transaction():
            self.store.shelf.keep_setting(
                "account", {"papers": [{"name": "Contract", "state": papers, "blocks": blocks}]}
            )
        platform = case.rules.platforms[0]
        wanted = protocol.BerthRequest(
            identifier=case.identifier, name=case.listed_name, platform=platform, language=LANGUAGE, reference=case.name
        )
        opened = self.act("open the berth", self.name_blockers(), lambda: self.gateway.open_berth(wanted, _key()))
        if opened is None:
            wanted = wanted.model_copy(update={"name": case.name.title()})
            opened = self.gateway.open_berth(wanted, _key())
        self.berth = opened.id
        if case.live:
            self.history()
        elif case.before != Availability() and case.papers_valid:
            self.offer(case.before)
        if case.offer is not None:
            self.offer(case.offer)
        self.write_texts(case.texts)
        self.write_pictures(case.pictures)
        self.write_answers(case.replies)
        self.write_goods(case.goods)
        self.release()

    def name_blockers(self) -> list[str]:
        try:
            demand_name(self.rules, self.case.listed_name)
        except Invalid as wrong:
            return [wrong.code]
        return []

    def act(self, what: str, blockers: list[str], do: Callable[[], Any]) -> Any:
        """Do one act; its answer, or None where it was refused."""
        self.tally.acts[what] += 1
        try:
            answer = do()
            refused = ""
        except StoreRefused as no:
            answer, refused = None, f"{no.code}: {no.detail}"
        self.compare(what, blockers, refused)
        return answer

    def compare(self, what: str, blockers: list[str], refused: str) -> None:
        case, tally = self.case, self.tally
        about = ", ".join(case.broken) or "nothing"
        rule = case.broken[0] if len(case.broken) == 1 else "several" if case.broken else "none"
        if refused:
            tally.refused[rule] += 1
            tally.tried.setdefault(rule, 0)
            if blockers:
                tally.foretold[rule] += 1
            else:
                tally.misses.append(
                    f"seed {self.seed}, {case.rules.store}, {what}: refused ({refused}), not foretold; breaks {about}"
                )
        elif blockers:
            tally.needless += 1
            tally.misses.append(
                f"seed {self.seed}, {case.rules.store}, {what}: taken, but {', '.join(blockers)} foretold; breaks {about}"
            )

    def known(self, **more: Any) -> Known:
        now = self.store.clock.now()
        state = "valid" if self.case.papers_valid else "missing"
        return Known(
            now=now, day=now, identifier=self.case.identifier, berth=BerthState.OPEN,
            papers=(Paper("Contract", state, blocks=("price", "free-or-paid")),), offered=self.offered,
            texts=self.texts_at(self.case.texts), pictures=self.pictures_at(self.case.pictures), answers=self.answers_at(self.case.replies), goods=self.goods_at(self.case.goods), standing=Standing(
                first_build_in=bool(self.held), first_review_begun=self.live or self.under_review,
                version_in_review=self.under_review, live=self.live,
            ), **more,
        )  # fmt: skip

    def texts_at(self, wanted: Mapping[str, Mapping[str, str]]) -> TextsAt:
        """As the desk keeps them: what several stores share by its meaning, the rest as this store's own."""
        listing = self.rules.listing
        common: dict[str, dict[str, str]] = {}
        own: dict[str, dict[str, str]] = {}
        for locale, texts in wanted.items():
            for key, text in texts.items():
                meaning = listing.meaning(key) if key in listing.fields else None
                (common if meaning else own).setdefault(locale, {})[meaning or key] = text
        return TextsAt(language=LANGUAGE, common=common, own=own, held=self.texts, ordered={})

    def offer(self, wanted: Availability) -> None:
        known = replace(self.known(), wanted_offer=wanted)
        blockers = [found.code for found in offer_findings(self.rules, known) if found.level is Level.BLOCKER]
        message = protocol.AvailabilityMessage.model_validate(wanted.model_dump(mode="json"))
        if self.act("set the offer", blockers, lambda: self.gateway.set_availability(self.berth, message, _key())):
            self.offered = wanted

    def write_texts(self, wanted: Mapping[str, Mapping[str, str]]) -> None:
        given = self.texts_at(wanted)
        changed, standing = differing(self.rules, given), self.known().standing
        _, kept = open_and_locked(flat(changed), lambda place: self.rules.lock_of_field(place[1]), standing)
        blockers = [found.code for found in against_sending(self.rules, given)]
        blockers += ["locked" for _ in kept]
        if not changed:
            return
        request = protocol.TextsRequest(texts=changed)
        if self.act("write texts", blockers, lambda: self.gateway.write_texts(self.berth, request, _key())):
            for locale, fields in changed.items():
                self.texts[locale] = {
                    name: text for name, text in (self.texts.get(locale, {}) | fields).items() if text
                }

    def pictures_at(self, wanted: Mapping[str, Sequence[str]]) -> PicturesAt:
        """As the desk keeps them: what several stores share by its meaning, the rest as this store's own; all that is to be
        made is made."""
        listing, hall = self.rules.listing, gallery()
        common: dict[str, tuple[str, ...]] = {}
        own: dict[str, tuple[str, ...]] = {}
        for key, files in wanted.items():
            meaning = listing.picture_meaning(key) if key in listing.pictures else None
            (common if meaning else own)[meaning or key] = tuple(files)
        given = PicturesAt(
            language=LANGUAGE, common={LANGUAGE: common}, own={LANGUAGE: own}, held={LANGUAGE: self.pictures},
            files=hall.facts, made=hall.made,
        )  # fmt: skip
        for recipe in recipes(self.rules, given):
            hall.make(recipe)
        return replace(given)  # what was worked out of it is worked out anew, with what is made now

    def write_pictures(self, wanted: Mapping[str, Sequence[str]]) -> None:
        """Send what differs; where the desk would not, the originals as they are."""
        given, hall = self.pictures_at(wanted), gallery()
        changed, standing = differing_sets(self.rules, given), self.known().standing
        if not changed:
            return
        blockers = [found.code for found in against_sending_sets(self.rules, given)]
        _, shut = open_and_locked(changed, lambda place: self.rules.lock_of_picture(place[1]), standing)
        blockers += ["locked" for _ in shut]
        taken = {(one.locale, one.key): one for one in taken_sets(self.rules, given)}
        sets: dict[str, tuple[protocol.PictureSent, ...]] = {}
        for place in changed:
            pieces = taken[place].pieces if place in taken else ()
            files = [piece.file or piece.original.sha256 for piece in pieces]
            sets[place[1]] = tuple(hall.sent(one, self.upload(one)) for one in files)
        request = protocol.PicturesRequest(pictures={LANGUAGE: sets})
        if self.act("write pictures", blockers, lambda: self.gateway.write_pictures(self.berth, request, _key())):
            self.pictures |= request_digests(request)
            self.pictures = {key: files for key, files in self.pictures.items() if files}

    def upload(self, sha256: str) -> str:
        with gallery().path(sha256).open("rb") as source:
            size = gallery().path(sha256).stat().st_size
            return self.gateway.send_package(self.berth, source, size, _key())

    def uploads(self, answers: Mapping[str, Any]) -> dict[str, str]:
        """The documents among answers, each uploaded."""
        return {sha256: self.upload(sha256) for sha256 in documents.named_in(answers.values())}

    def answers_at(self, wanted: Mapping[str, Any]) -> AnswersAt:
        """As the desk keeps them: what stands for an answer to a topic by its topic, the rest as this store's own."""
        common: dict[str, Answer | None] = {}
        own: dict[str, Answer | None] = {}
        for key, value in wanted.items():
            with suppress(Invalid):
                answer = read_answer(shape_at(self.rules, key), value, key)
                ours = untranslated(self.rules, key, answer)
                topic = self.rules.questionnaire.topic(key)
                if ours is not None and topic is not None:
                    common[topic] = ours
                else:
                    own[key] = answer
        return AnswersAt(common=common, own=own, held={key: thawed(value) for key, value in self.answers.items()})

    def write_answers(self, wanted: Mapping[str, Any]) -> None:
        given, now = self.answers_at(wanted), self.store.clock.now()
        changed = differing_answers(self.rules, given, asked(self.rules, given, Conditions(offer=self.offered), now))
        request = {key: plain(value) for key, value in changed.items()}
        blockers = [found.code for found in against_answers(self.rules, given, changed)]
        for key, value in wanted.items():
            try:
                read_answer(shape_at(self.rules, key), value, key)
            except Invalid as wrong:
                blockers.append(wrong.code)
                request[key] = value
        standing = self.known().standing
        blockers += ["locked" for key in request if locked("It", self.rules.lock_of_question(key), standing)]
        if not request:
            return
        message = protocol.DossierAnswersRequest(answers=request, uploads=self.uploads(request))
        if self.act("write answers", blockers, lambda: self.gateway.write_answers(self.berth, message, _key())):
            self.answers |= request

    def goods_at(self, wanted: Mapping[str, Good]) -> GoodsAt:
        hall = gallery()
        given = GoodsAt(LANGUAGE, "here", dict(wanted), held=self.goods, files=hall.facts, made=hall.made)
        for recipe in good_recipes(self.rules, given):
            hall.make(recipe)
        return given

    def write_goods(self, wanted: Mapping[str, Good]) -> None:
        """Send what differs; where the desk would not, the goods as they are."""
        given, standing = self.goods_at(wanted), self.known().standing
        changed = differing_goods(self.rules, given)
        if not changed:
            return
        blockers = [found.code for found in against_sending_goods(self.rules, given)]
        blockers += ["locked" for _ in changed if locked("It", self.rules.lock_of_goods(), standing)]
        goods = {
            reference: good or SoldGood(**wanted[reference].model_dump(exclude={"stores"}))
            for reference, good in changed.items()
        }
        uploads = {one.picture: self.upload(one.picture) for one in goods.values() if one.picture is not None}
        request = protocol.GoodsRequest.of(goods, uploads)
        if self.act("write goods", blockers, lambda: self.gateway.write_goods(self.berth, request, _key())):
            self.goods |= goods

    def history(self) -> None:
        """A release that is live, and a newer build that nobody released."""
        case = self.case
        sound_one = sound(case.name, case.rules, random.Random(self.seed))
        if case.before != Availability():
            self.offer(case.before)
        with suppress(StoreRefused):
            texts = protocol.TextsRequest(texts=sound_one.texts)
            self.gateway.write_texts(self.berth, texts, _key())
            self.texts = {locale: dict(fields) for locale, fields in sound_one.texts.items()}
            self.write_sound_pictures(sound_one.pictures)
            answers = protocol.DossierAnswersRequest(answers=sound_one.replies, uploads=self.uploads(sound_one.replies))
            self.gateway.write_answers(self.berth, answers, _key())
            self.answers = dict(sound_one.replies)
            self.write_sound_goods(sound_one.goods)
        first = replace(sound_one, recipes=[replace(one, version=LIVE, number=1) for one in sound_one.recipes])
        consignment, facts = self.send(first)
        seen = self.gateway.consignment(consignment)
        assert seen.state == "ready", f"seed {self.seed}: the first build is {seen.state}: {seen.reason}"
        submission = self.gateway.submit(
            self.berth,
            protocol.SubmissionRequest(
                consignment=consignment, version=LIVE, notes=sound_one.notes, items=items_of(case.rules)
            ),
            _key(),
        )
        self.pass_hours(60)
        ladder = case.rules.rollout.dictated_ladder
        self.gateway.launch(submission.id, ladder.stages[0].share if ladder else 1.0, _key())
        self.live = True
        self.expected = Expected(at_store=tuple(one.sha256 for one in facts[0].signers))
        newer = replace(sound_one, recipes=[replace(one, version="1.1.0", number=EARLIER) for one in sound_one.recipes])
        self.send(newer)
        self.held = [Held(**one.model_dump()) for one in self.gateway.holdings(self.berth).builds]

    def write_sound_goods(self, wanted: Mapping[str, Good]) -> None:
        changed = differing_goods(self.rules, self.goods_at(wanted))
        goods = {reference: good for reference, good in changed.items() if good is not None}
        uploads = {one.picture: self.upload(one.picture) for one in goods.values() if one.picture is not None}
        if goods:
            self.gateway.write_goods(self.berth, protocol.GoodsRequest.of(goods, uploads), _key())
            self.goods |= goods

    def write_sound_pictures(self, wanted: Mapping[str, Sequence[str]]) -> None:
        given, hall = self.pictures_at(wanted), gallery()
        sets = {one.key: one.files or () for one in taken_sets(self.rules, given)}
        told = {key: tuple(hall.sent(one, self.upload(one)) for one in files) for key, files in sets.items()}
        request = protocol.PicturesRequest(pictures={LANGUAGE: told})
        self.gateway.write_pictures(self.berth, request, _key())
        self.pictures = {key: tuple(files) for key, files in sets.items()}

    def send(self, case: Case) -> tuple[str, list[Facts]]:
        """Hand a build in and let the store look at it; its reference, and what is in it."""
        files = case.write(self.folder)
        facts = [_read(file) for file in files]
        uploads = []
        for file in files:
            with file.open("rb") as source:
                uploads.append(self.gateway.send_package(self.berth, source, file.stat().st_size, _key()))
        wanted = protocol.ConsignmentRequest(uploads=tuple(uploads), version=facts[0].version, number=facts[0].number)
        consignment = self.gateway.consign(self.berth, wanted, _key()).id
        self.pass_hours(3 * self.rules.processing.usual_minutes / 60)
        return consignment, facts

    def pass_hours(self, hours: float) -> None:
        self.store.clock.step(timedelta(hours=hours))
        self.store.turn()

    def release(self) -> None:
        """Send the build, answer what is asked, hand it to review; each is foretold before it is done."""
        case = self.case
        files = case.write(self.folder)
        facts = tuple(_read(file) for file in files)
        held = [Held(**one.model_dump()) for one in self.gateway.holdings(self.berth).builds]
        found = check_push(self.rules, held, facts, case.identifier, self.store.clock.now(), self.expected)
        blockers = [one.code for one in found if one.level is Level.BLOCKER]
        build = BuildKnown("The build", facts[0].version, facts)
        consignment = self.pushed(case, files, facts, blockers)
        if consignment is None:
            return
        leg = LegKnown(case.release, LegPhase.DRAFT, case.notes)
        known = self.known(build=replace(build, state=ConsignmentState.READY), leg=leg)
        stopped = [one.code for one in sheet(self.rules, known).findings() if one.level is Level.BLOCKER]
        refused = self.reviewed(case, consignment)
        self.tally.acts["hand to review"] += 1
        self.compare("hand to review", stopped, refused)

    def pushed(self, case: Case, files: list[Path], facts: Sequence[Facts], blockers: list[str]) -> str | None:
        self.tally.acts["send the build"] += 1
        try:
            consignment, _ = self.send(case)
        except StoreRefused as no:
            self.compare("send the build", blockers, f"{no.code}: {no.detail}")
            return None
        seen, given = self.gateway.consignment(consignment), dict[str, str]()
        while seen.state == "held":
            asked = {question.code: question for question in seen.questions}
            answers = {code: self.answer_to(code, question.choices) for code, question in asked.items()}
            given |= answers
            blockers = [*blockers, *refused_for(self.rules, answers)]
            seen = self.gateway.answer(consignment, answers, _key())
        self.compare("send the build", blockers, (seen.reason or "refused") if seen.state == "refused" else "")
        return consignment if seen.state == "ready" else None

    def answer_to(self, code: str, choices: Sequence[str]) -> str:
        """The answer that the case gives: one that leads on to a refusal, or one that does not."""
        question = next(one for one in self.case.rules.processing.questions if one.code == code)
        if self.case.answers == "refused":
            return question.refused_answers[0] if question.refused_answers else choices[0]
        return next(choice for choice in choices if choice not in question.refused_answers)

    def reviewed(self, case: Case, consignment: str) -> str:
        """Why the store does not take it for review, or rejects it; nothing where it is approved."""
        wanted = protocol.SubmissionRequest(
            consignment=consignment, version=case.release, notes=case.notes, items=items_of(case.rules)
        )
        try:
            submission = self.gateway.submit(self.berth, wanted, _key())
        except StoreRefused as no:
            return f"{no.code}: {no.detail}"
        if case.while_reviewed:
            self.under_review = True
            self.change_while_reviewed(case)
            self.under_review = False
        self.pass_hours(60)
        told = self.store.needed("submission", submission.id)
        assert told["state"] in ("approved", "rejected"), told["state"]
        return " ".join(told["reasons"])

    def change_while_reviewed(self, case: Case) -> None:
        if case.while_reviewed == "price":
            price = (self.offered.price or Decimal(1)) + 1
            if self.offered.price is not None:
                self.offer(self.offered.model_copy(update={"price": price}))
            return
        if case.while_reviewed == "pictures":
            locked_ones = [
                key for key in self.rules.listing.pictures if self.rules.lock_of_picture(key) is LocksAt.EACH_VERSION
            ]
            another = {key: other_pictures(self.rules, key) for key in locked_ones[:1]}
            self.write_pictures({**case.pictures, **another})
            return
        if case.while_reviewed == "answers":
            dice = random.Random(self.seed)
            self.write_answers({key: sound_reply(self.rules, key, dice) for key in case.replies})
            return
        if case.while_reviewed == "goods":
            self.write_goods({**case.goods, "another": sound_good(self.rules, random.Random(self.seed))})
            return
        field = next(iter(self.rules.listing.fields))
        self.write_texts({**case.texts, LANGUAGE: {**case.texts[LANGUAGE], field: "Changed meanwhile."}})


def request_digests(request: protocol.PicturesRequest) -> dict[str, tuple[str, ...]]:
    return {key: tuple(files) for key, files in request.digests()[LANGUAGE].items()}


def other_pictures(rules: Rulebook, key: str) -> list[str]:
    """Others than any case has."""
    rule = rules.listing.pictures[key]
    if rules.listing.picture_form(key) is PictureForm.FILM:
        shorter = max(rule.smallest_side, 180) // 2 * 2
        return [gallery().film(rule.shortest_seconds + 2, shorter, shorter * 2)]
    return [gallery().still(*sides(rule), f"other {at}") for at in range(max(rule.fewest, 1))]


def _read(file: Path) -> Facts:
    with file.open("rb") as source:
        return inspect_package(source)


def items_of(rules: Rulebook) -> tuple[str, ...]:
    """What goes to review with a version, whatever has changed."""
    return tuple(str(kind) for kind in (*ALWAYS, *rules.review.must_go))


def _key() -> str:
    return str(uuid.uuid4())
