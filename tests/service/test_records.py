"""What the desk keeps: sealed secrets, package files whole or not at all, one writer at a time."""

from __future__ import annotations

import base64
import hashlib
import json
import threading
from datetime import UTC, datetime, timedelta
from pathlib import Path

import alembic.command
import alembic.config
import pytest
from sqlalchemy import create_engine, select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session

from restless_tide import records
from restless_tide.core.cohorts import CohortKind
from restless_tide.core.errors import Conflict, Invalid
from restless_tide.core.ladder import parse_ladder
from restless_tide.core.notice import NoticeKind
from restless_tide.core.numbers import BuildNumber
from restless_tide.core.report import ReportKind, ReportState
from restless_tide.core.rollout import RolloutState
from restless_tide.core.rulebook import Rulebook, ThingKind
from restless_tide.core.trial import TrialState
from restless_tide.desk import go_aheads, logbook
from restless_tide.desk.clock import RealClock
from restless_tide.desk.desk import Desk
from restless_tide.desk.settings import Settings, settings_from
from restless_tide.engine.lease import EngineLease
from restless_tide.records import tables
from restless_tide.records.database import Database
from restless_tide.records.digest_files import DigestFiles
from restless_tide.records.package_files import PackageFiles
from restless_tide.records.seal import Seal, master_key, token_digest
from restless_tide.standins.__main__ import RULEBOOKS, read_rulebook


def test_what_is_sealed_opens_only_under_its_name_and_key() -> None:
    seal = Seal(bytes(32))
    sealed = seal.close(b"a private key", "store s-1")
    assert b"private" not in sealed
    assert seal.open(sealed, "store s-1") == b"a private key"
    assert seal.close(b"a private key", "store s-1") != sealed
    for other, name, content in (
        (seal, "store s-2", sealed),
        (Seal(b"1" * 32), "store s-1", sealed),
        (seal, "store s-1", sealed[:-1] + bytes([sealed[-1] ^ 1])),
    ):
        with pytest.raises(Invalid, match="does not open"):
            other.open(content, name)


def test_the_master_key_is_made_once_private_or_taken_from_the_environment(tmp_path: Path) -> None:
    first = master_key(tmp_path, None)
    assert master_key(tmp_path, None) == first
    assert (tmp_path / "master.key").stat().st_mode & 0o777 == 0o600
    given = base64.b64encode(b"k" * 32).decode()
    assert master_key(tmp_path, given) == b"k" * 32
    with pytest.raises(Invalid, match="not base64"):
        master_key(tmp_path, "not base64!")
    with pytest.raises(Invalid, match="needs 32"):
        Seal(master_key(tmp_path, base64.b64encode(b"short").decode()))


def test_personal_codes_differ_by_subject_and_key_and_do_not_change() -> None:
    codes = {Seal(key).personal_code(subject) for key in (bytes(32), b"1" * 32) for subject in ("in-1", "in-2")}
    assert len(codes) == 4
    assert Seal(bytes(32)).personal_code("in-1") in codes
    assert token_digest("tide_x") != token_digest("tide_y")


def test_a_file_is_kept_whole_under_its_digest_or_not_at_all(tmp_path: Path) -> None:
    files = PackageFiles(tmp_path)
    content = b"tide" * 1000
    digest = hashlib.sha256(content).hexdigest()
    with files.writing("u-1", 0) as arriving:
        arriving.write(content[:1000])
    assert not files.holds(digest)
    again = PackageFiles(tmp_path)  # another process goes on where this one was cut
    with pytest.raises(Conflict, match="stands at 1000 bytes, not at 900"), again.writing("u-1", 900):
        pass
    with again.writing("u-1", 1000) as arriving:
        arriving.write(b"damaged on the way")
        arriving.take_back()
        arriving.write(content[1000:])
    assert again.whole("u-1", digest).read_bytes() == content
    again.settle("u-1")
    again.keep("u-1", digest)
    assert files.path(digest).read_bytes() == content
    with files.writing("u-2", 0) as arriving:
        arriving.write(b"other")
    with pytest.raises(Invalid, match="have the digest"):
        files.whole("u-2", digest)
    assert list((tmp_path / "arriving").iterdir()) == []
    assert (files.clear(digest), files.clear(digest)) == (4000, 0)


def test_an_upload_has_one_writer_at_a_time(tmp_path: Path) -> None:
    files = PackageFiles(tmp_path)
    with files.writing("u-1", 0), pytest.raises(Conflict, match="being written already"), files.writing("u-1", 0):
        pass


def test_an_act_that_fails_leaves_nothing(tmp_path: Path) -> None:
    desk = Desk(Settings(data=tmp_path), RealClock())

    def fail_half_way() -> None:
        with desk.act("p-1") as act:
            act.log("something", "a thing")
            raise RuntimeError("half way")

    with pytest.raises(RuntimeError, match="half way"):
        fail_half_way()
    with desk.look() as session:
        assert session.scalars(select(tables.LogbookLine)).all() == []
    desk.close()


def test_acts_of_many_threads_chain_one_after_the_other(tmp_path: Path) -> None:
    desk = Desk(Settings(data=tmp_path), RealClock())

    def act_often(who: str) -> None:
        for place in range(12):
            with desk.act(who) as act:
                act.log("counted", f"{who} {place}")

    threads = [threading.Thread(target=act_often, args=(f"p-{place}",)) for place in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    with desk.look() as session:
        assert logbook.verify(session) == (72, None)
    desk.close()


def test_a_reader_sees_nothing_of_an_act_under_way(tmp_path: Path) -> None:
    database = Database(tmp_path / "desk.sqlite")
    database.migrate()
    clock = RealClock()
    with database.writing() as writing:
        writing.add(tables.Tester(email="wren@example.org", name="Wren", created_at=clock.now()))
        writing.flush()
        with database.reading() as reading:
            assert reading.scalars(select(tables.Tester)).all() == []
    with database.reading() as reading:
        (kept,) = reading.scalars(select(tables.Tester)).all()
        assert kept.created_at.tzinfo is not None
    database.close()


def test_an_instant_without_a_zone_is_never_kept(tmp_path: Path) -> None:
    database = Database(tmp_path / "desk.sqlite")
    database.migrate()
    with pytest.raises(Exception, match="without a zone"), database.writing() as session:
        session.add(
            tables.Tester(email="wren@example.org", name="Wren", created_at=RealClock().now().replace(tzinfo=None))
        )
    database.close()


def test_settings_are_read_from_the_environment_and_a_bad_one_is_named() -> None:
    settings = settings_from(
        {"TIDE_DATA": "/data", "TIDE_PORT": "7200", "TIDE_PUBLIC_ADDRESS": "https://desk.example.org/", "HOME": "/"}
    )
    assert (settings.port, settings.address, settings.steppable_clock) == (7200, "https://desk.example.org", False)
    assert settings_from({}).address == settings_from({"TIDE_PORT": ""}).address == "http://127.0.0.1:7100"
    with pytest.raises(Invalid, match="TIDE_PORT is 'seven'"):
        settings_from({"TIDE_PORT": "seven"})


def test_records_of_the_first_release_are_carried_over_whole(tmp_path: Path) -> None:
    database = Database(tmp_path / "desk.sqlite")
    config = alembic.config.Config()
    config.set_main_option("script_location", str(Path(records.__file__).parent / "migrations"))
    with database.engine.connect() as connection:
        config.attributes["connection"] = connection
        alembic.command.upgrade(config, "0001")
        for line in (
            "INSERT INTO stores (id, name, address, client_id, sealed_key, may, rulebook, connected_at, events_seen)"
            " VALUES ('s-1', 'northgate', 'http://x', 'c', x'00', '[]', '{}', '2026-11-01 00:00:00', 7)",
            "INSERT INTO apps (id, name, title, created_at) VALUES ('a-1', 'marram', 'Marram', '2026-11-01 00:00:00')",
            "INSERT INTO berths (id, app_id, store_id, listed_name, platform, identifier, language, created_at)"
            " VALUES ('be-1', 'a-1', 's-1', 'Marram', 'ios', 'org.example.marram', 'en', '2026-11-01 00:00:00')",
        ):
            connection.exec_driver_sql(line)
        connection.commit()
    database.migrate()
    with database.reading() as session:
        (store,) = session.scalars(select(tables.Store))
        (berth,) = session.scalars(select(tables.Berth))
        assert (store.events_seen, store.account, store.hand_carried, store.push_ref) == (7, {}, False, None)
        assert (berth.store.name, berth.availability, berth.sighting) == ("northgate", {}, None)
    with database.engine.connect() as connection:
        assert connection.exec_driver_sql("PRAGMA foreign_key_check").fetchall() == []
    database.close()


def test_trials_and_testers_of_the_third_release_are_carried_over_whole(tmp_path: Path) -> None:
    database = Database(tmp_path / "desk.sqlite")
    config = alembic.config.Config()
    config.set_main_option("script_location", str(Path(records.__file__).parent / "migrations"))
    at = "'2026-11-01 00:00:00.000000'"
    with database.engine.connect() as connection:
        config.attributes["connection"] = connection
        alembic.command.upgrade(config, "0003")
        for line in (
            "INSERT INTO stores (id, name, may, rulebook, account, connected_at, events_seen, skew_seconds, breaker_failures)"
            f" VALUES ('s-1', 'openfield', '[]', '{{}}', '{{}}', {at}, 0, 0, 0)",
            f"INSERT INTO apps (id, name, title, created_at) VALUES ('a-1', 'marram', 'Marram', {at})",
            "INSERT INTO berths (id, app_id, store_id, listed_name, platform, identifier, language, created_at, store_ref,"
            f" availability, told_until) VALUES ('be-1', 'a-1', 's-1', 'Marram', 'android', 'x', 'en', {at}, 'b', '{{}}', 0)",
            f"INSERT INTO builds (id, app_id, platform, version, number, created_at, created_by) VALUES ('b-1', 'a-1', 'android', '1.0.0', 1, {at}, 'p')",
            "INSERT INTO consignments (id, build_id, berth_id, state, created_at, changed_at, sent_bytes, size_bytes, uploads, questions, answers)"
            f" VALUES ('c-1', 'b-1', 'be-1', 'ready', {at}, {at}, 1, 1, '{{}}', '[]', '{{}}')",
            f"INSERT INTO cohorts (id, app_id, name, kind, created_at) VALUES ('co-1', 'a-1', 'crew', 'crew', {at})",
            f"INSERT INTO testers (id, email, name, created_at) VALUES ('te-1', 'w.ren+x@example.org', 'Wren', {at})",
            f"INSERT INTO memberships (cohort_id, tester_id, joined_at) VALUES ('co-1', 'te-1', {at})",
            "INSERT INTO trials (id, cohort_id, consignment_id, state, notes, contact, created_at, changed_at)"
            f" VALUES ('tr-1', 'co-1', 'c-1', 'open', 'Walk a path.', 'ida@example.org', {at}, {at})",
            "INSERT INTO invitations (id, trial_id, tester_id, state, created_at, changed_at, attempts)"
            f" VALUES ('in-1', 'tr-1', 'te-1', 'accepted', {at}, {at}, 0)",
        ):
            connection.exec_driver_sql(line)
        connection.commit()
    database.migrate()
    with database.reading() as session:
        (trial,) = session.scalars(select(tables.Trial))
        (invitation,) = session.scalars(select(tables.Invitation))
        (membership,) = session.scalars(select(tables.Membership))
        assert (trial.brief, trial.contact, trial.opened_at) == (
            {"en": "Walk a path."},
            "ida@example.org",
            trial.changed_at,
        )
        assert [row.berth_id for row in trial.cohort.attachments] == ["be-1"]
        assert (invitation.seated_at, invitation.mails, set(invitation.moments)) == (
            invitation.created_at,
            1,
            {"accepted"},
        )
        assert (membership.accepted_at, membership.tester.lookalike) == (invitation.changed_at, "wren@example.org")
        assert (membership.tester.platforms, trial.cohort.join_open) == ([], False)
    with database.engine.connect() as connection:
        assert connection.exec_driver_sql("PRAGMA foreign_key_check").fetchall() == []
    database.close()


def test_what_was_deleted_is_scrubbed_from_the_file_and_its_log(tmp_path: Path) -> None:
    path, mark = tmp_path / "desk.sqlite", "Quendolina-Ysbrandt"
    database = Database(path)
    database.migrate()
    with database.writing() as session:
        session.add_all(
            tables.Tester(email=f"{mark}{place}@example.org", name=mark * 20, created_at=RealClock().now()) for place in range(300)
        )  # fmt: skip
    with database.writing() as session:
        for tester in session.scalars(select(tables.Tester)):
            tester.name, tester.email = "", f"{tester.id}@forgotten.invalid"

    def left() -> list[str]:
        return [file.name for file in tmp_path.glob("desk.sqlite*") if mark.encode() in file.read_bytes()]

    assert left(), "otherwise this test proves nothing"
    with database.reading() as reader:
        reader.scalars(select(tables.Tester).limit(1)).all()
        assert not database.scrub(), "someone reads, so the log cannot be emptied yet"
    assert database.scrub()
    assert left() == []
    with database.reading() as session:
        assert len(session.scalars(select(tables.Tester)).all()) == 300
    database.close()


def test_a_small_file_is_kept_under_its_digest_and_leaves_nothing_behind(tmp_path: Path) -> None:
    files = DigestFiles(tmp_path / "pictures")
    sha256 = files.keep(b"a picture")
    assert sha256 == hashlib.sha256(b"a picture").hexdigest()
    assert files.keep(b"a picture") == sha256
    assert files.read(sha256) == b"a picture"
    assert [path.name for path in (tmp_path / "pictures").rglob("*") if path.is_file()] == [sha256]
    files.drop(sha256)
    files.drop(sha256)
    with pytest.raises(FileNotFoundError):
        files.read(sha256)


def test_mail_codes_are_lower_case_and_belong_to_one_subject_of_one_desk() -> None:
    seal, other = Seal(b"k" * 32), Seal(b"o" * 32)
    code = seal.mail_code("bounce in-1")
    assert code == code.lower()
    assert seal.is_mail_code("bounce in-1", code)
    assert not seal.is_mail_code("report in-1", code)
    assert not other.is_mail_code("bounce in-1", code)
    assert not seal.is_mail_code("bounce in-1", "")


def test_sightings_and_subscriptions_of_the_fourth_release_are_carried_over_and_back(tmp_path: Path) -> None:
    database, at = Database(tmp_path / "desk.sqlite"), RealClock().now()
    database.migrate()
    offer = '{"countries": ["DE"], "price": null}'
    with database.writing() as session:
        person = tables.Person(name="Ida", email="ida@example.org", password_hash="-", created_at=at)
        store = tables.Store(name="openfield", may=[], rulebook={"store": "Openfield"}, connected_at=at, events_seen=9)
        app = tables.App(name="marram", title="Marram", created_at=at)
        session.add_all([person, store, app])
        session.flush()
        berth = tables.Berth(
            app_id=app.id, store_id=store.id, listed_name="Marram", platform="android", identifier="x", language="en", created_at=at
        )  # fmt: skip
        build = tables.Build(
            app_id=app.id,
            platform="android",
            version="1.0.0",
            number=BuildNumber(1),
            created_at=at,
            created_by=person.id,
        )
        release = tables.Release(app_id=app.id, version="1.0.0", created_at=at)
        told = ["changed at the store", "order failing"]
        subscription = tables.Subscription(
            person_id=person.id, channel="mail", address="ida@example.org", kinds=told, apps=[], created_at=at
        )
        session.add_all([berth, build, release, subscription])
        session.flush()
        leg = tables.Leg(release_id=release.id, berth_id=berth.id, build_id=build.id, created_at=at, ladder={})
        session.add(leg)
        session.flush()
        session.add_all(
            [
                tables.Sighting(subject=leg.id, state="rising", share=0.2, sequence=7, at=at, seen_at=at),
                tables.Sighting(subject=berth.id, state=offer, sequence=8, at=at, seen_at=at),
            ]
        )
    config = alembic.config.Config()
    config.set_main_option("script_location", str(Path(records.__file__).parent / "migrations"))
    unfollowed = create_engine(f"sqlite:///{database.path}")  # tables are rebuilt while nothing follows their pointers
    with unfollowed.connect() as connection:
        config.attributes["connection"] = connection
        alembic.command.downgrade(config, "0004")
        (seen,) = connection.exec_driver_sql("SELECT leg_id, state, share, sequence FROM sightings").all()
        assert seen[1:] == ("rising", 0.2, 7)
        connection.commit()
    unfollowed.dispose()
    database.migrate()
    with database.reading() as session:
        (leg,) = session.scalars(select(tables.Leg))
        (berth,) = session.scalars(select(tables.Berth))
        (subscription,) = session.scalars(select(tables.Subscription))
        assert (leg.sighting.state, leg.sighting.share, leg.sighting.sequence, leg.sighting.ours) == (
            "rising",
            0.2,
            7,
            True,
        )
        assert (berth.sighting.state, berth.sighting.sequence) == (offer, 8)
        assert subscription.kinds == [*told, "offered again", "event not taken"]
    database.close()


def test_numbers_of_the_fifth_release_are_carried_over_and_back(tmp_path: Path) -> None:
    database, at = Database(tmp_path / "desk.sqlite"), "'2026-11-01 00:00:00.000000'"
    config = alembic.config.Config()
    config.set_main_option("script_location", str(Path(records.__file__).parent / "migrations"))
    with database.engine.connect() as connection:
        config.attributes["connection"] = connection
        alembic.command.upgrade(config, "0005")
        connection.exec_driver_sql(f"INSERT INTO apps (id, name, title, created_at) VALUES ('a-1', 'm', 'M', {at})")
        for number in (9, 10, 217):
            connection.exec_driver_sql(
                "INSERT INTO builds (id, app_id, platform, version, number, version_order, created_at, created_by)"
                f" VALUES ('b-{number}', 'a-1', 'ios', '1.0.0', {number}, 0, {at}, 'p')"
            )
        connection.exec_driver_sql(
            "INSERT INTO reservations (id, app_id, version, number, stores, label, reserved_by, reserved_at)"
            f" VALUES ('re-1', 'a-1', '1.0.0', 218, '[]', '', 'p', {at})"
        )
        connection.commit()
    database.migrate()
    with database.reading() as session:
        kept = session.scalars(select(tables.Build).order_by(tables.Build.number_order)).all()
        assert [build.label for build in kept] == ["1.0.0 (9)", "1.0.0 (10)", "1.0.0 (217)"]
        (held,) = session.scalars(select(tables.Reservation))
    twice = {
        name: getattr(held, name) for name in ("app_id", "version", "stores", "label", "reserved_by", "reserved_at")
    }
    with pytest.raises(IntegrityError), database.writing() as session:
        session.add(tables.Reservation(number=BuildNumber("218.0"), **twice))
    with database.engine.connect() as connection:
        config.attributes["connection"] = connection
        alembic.command.downgrade(config, "0005")
        found = connection.exec_driver_sql("SELECT number FROM builds ORDER BY number").scalars().all()
        assert found == [9, 10, 217]
        connection.commit()
    database.close()


def test_reports_of_the_sixth_release_are_carried_over_and_back(tmp_path: Path) -> None:
    database, at = Database(tmp_path / "desk.sqlite"), RealClock().now()
    database.migrate()
    with database.writing() as session:
        app = tables.App(name="marram", title="Marram", created_at=at)
        session.add(app)
        session.flush()
        for state in ReportState:
            filed = {"kind": ReportKind.REMARK, "at": at, "received_at": at, "changed_at": at, "source": "page"}
            session.add(tables.FieldReport(app_id=app.id, state=state, **filed))
    config = alembic.config.Config()
    config.set_main_option("script_location", str(Path(records.__file__).parent / "migrations"))
    with database.engine.connect() as connection:
        config.attributes["connection"] = connection
        alembic.command.downgrade(config, "0006")
        found = connection.exec_driver_sql("SELECT state, mended_in, same_as FROM field_reports").all()
        assert {row.state for row in found} == {"new", "accepted", "same as", "mended in", "closed"}
        connection.commit()
    database.migrate()
    with database.reading() as session:
        assert set(session.scalars(select(tables.FieldReport.state))) == set(ReportState)
    database.close()


LATER = (ThingKind.ANSWERS, ThingKind.GOODS)


def of_that_time(rules: Rulebook) -> Rulebook:
    """The same without what rulebooks did not have then: questions about an app, classes of pictures, goods, and licence texts."""
    later = {"must_go", "refused_item", "appeals", "go_together"}
    document = rules.model_dump(mode="json", exclude={"questionnaire": True, "goods": True, "review": later})
    document["listing"]["pictures"] = {}
    document["listing"]["fields"] = {
        key: field for key, field in document["listing"]["fields"].items() if field["means"] != "licence"
    }
    unknown = {key for key, thing in rules.things.items() if thing.kind in LATER or thing.pictures}
    document["things"] = {
        key: thing | {"opens_after": [before for before in thing["opens_after"] if before not in unknown]}
        for key, thing in document["things"].items()
        if key not in unknown
    }
    return Rulebook.model_validate(document)


def test_rulebooks_of_the_seventh_release_are_carried_over_and_back(tmp_path: Path) -> None:
    """Until then a thing told no kind, and the desk knew some by their names."""
    database, at = Database(tmp_path / "desk.sqlite"), RealClock().now()
    rules = {path.stem: of_that_time(read_rulebook(path.read_text("utf-8"))) for path in RULEBOOKS.glob("*.toml")}
    database.migrate()
    with database.writing() as session:
        for name, book in rules.items():
            session.add(tables.Store(name=name, may=[], rulebook=book.model_dump(mode="json"), connected_at=at))
    config = alembic.config.Config()
    config.set_main_option("script_location", str(Path(records.__file__).parent / "migrations"))
    with database.engine.connect() as connection:
        config.attributes["connection"] = connection
        alembic.command.downgrade(config, "0007")
        assert (
            '"kind"' not in connection.exec_driver_sql("SELECT rulebook ->> '$.things' FROM stores").scalars().first()
        )
        connection.commit()
    database.migrate()
    with database.reading() as session:
        for store in session.scalars(select(tables.Store)):
            assert Rulebook.model_validate(store.rulebook) == rules[store.name]
    database.close()


def test_goods_and_documents_are_unknown_to_the_release_before(tmp_path: Path) -> None:
    database, at = Database(tmp_path / "desk.sqlite"), RealClock().now()
    database.migrate()
    books = [read_rulebook(path.read_text(encoding="utf-8")) for path in sorted(RULEBOOKS.glob("*.toml"))]
    with database.writing() as session:
        for book in books:
            row = tables.Store(name=book.store, may=[], rulebook=book.model_dump(mode="json"), connected_at=at)
            session.add(row)
    config = alembic.config.Config()
    config.set_main_option("script_location", str(Path(records.__file__).parent / "migrations"))
    with database.engine.connect() as connection:
        config.attributes["connection"] = connection
        alembic.command.downgrade(config, "0015")
        kept = " ".join(connection.exec_driver_sql("SELECT rulebook FROM stores").scalars())
        assert not [word for word in ('"goods"', '"selling"', '"rights-paper"', '"file"') if word in kept]
        connection.commit()
    database.migrate()
    with database.reading() as session:
        for store in session.scalars(select(tables.Store)):
            again = Rulebook.model_validate(store.rulebook)
            assert again.goods is None
            assert again.questionnaire.questions
    database.close()


def test_what_was_live_is_carried_over_from_the_logbook_and_steadiness_is_unknown_to_the_release_before(
    tmp_path: Path,
) -> None:
    database, at = Database(tmp_path / "desk.sqlite"), RealClock().now()
    database.migrate()
    rules = read_rulebook((RULEBOOKS / "openfield.toml").read_text(encoding="utf-8"))
    with database.writing() as session:
        store = tables.Store(name="openfield", may=[], rulebook=rules.model_dump(mode="json"), connected_at=at)
        app = tables.App(name="marram", title="Marram", created_at=at)
        session.add_all([store, app])
        session.flush()
        berth = tables.Berth(
            app_id=app.id, store_id=store.id, listed_name="Marram", platform="android", identifier="x", language="en", created_at=at
        )  # fmt: skip
        build = tables.Build(
            app_id=app.id, platform="android", version="1.0.0", number=BuildNumber(1), created_at=at, created_by="p"
        )
        release = tables.Release(app_id=app.id, version="1.0.0", created_at=at)
        session.add_all([berth, build, release])
        session.flush()
        leg = tables.Leg(
            release_id=release.id, berth_id=berth.id, build_id=build.id, created_at=at, launched_at=at, stage=0, share=0.05,
            state=RolloutState.RISING, ladder=parse_ladder("5@24+steady12/2000,100").model_dump(mode="json"),
        )  # fmt: skip
        session.add(leg)
        session.flush()
        session.add(tables.Sighting(subject=leg.id, state="paused", share=0.05, sequence=7, at=at, seen_at=at))
        for place, (act, subject, after) in enumerate(
            [
                ("launch", "release 1.0.0 at openfield", {"state": "rising", "share": 0.02}),
                ("advance", "release 1.0.0 at openfield", {"state": "rising", "share": 0.05}),
                ("advance", "release 1.0.0 at elsewhere", {"state": "rising", "share": 0.5}),
                ("leg changed", "release 1.0.0 at openfield", {"ladder": "5%"}),
                ("noted", "release 1.0.0 at openfield", None),
            ]
        ):
            session.add(
                tables.LogbookLine(
                    at=at + timedelta(hours=place),
                    person="p",
                    act=act,
                    subject=subject,
                    app="marram",
                    after=after,
                    digest="",
                )
            )
    config = alembic.config.Config()
    config.set_main_option("script_location", str(Path(records.__file__).parent / "migrations"))
    with database.engine.connect() as connection:
        config.attributes["connection"] = connection
        alembic.command.downgrade(config, "0018")
        (ladder,) = connection.exec_driver_sql("SELECT ladder FROM legs").scalars()
        assert "steady" not in ladder
        assert "least" not in ladder
        assert json.loads(ladder)["stages"][0] == {"share": 0.05, "dwell_hours": None}
        assert "steady_hours" not in " ".join(connection.exec_driver_sql("SELECT rulebook FROM stores").scalars())
        connection.commit()
    database.migrate()
    with database.reading() as session:
        shown = session.scalars(select(tables.Showing).order_by(tables.Showing.id)).all()
        assert [(row.at, row.state, row.share) for row in shown] == [
            (at, "rising", 0.02),
            (at + timedelta(hours=1), "rising", 0.05),
            (at, "paused", 0.05),
        ]
        (store,) = session.scalars(select(tables.Store))
        assert Rulebook.model_validate(store.rulebook).rollout.dictated_ladder is not None
    database.close()


def trial_in(session: Session, store: tables.Store, at: datetime) -> tables.Trial:
    """A trial that the store rejected, with all it hangs on."""
    app = tables.App(name="marram", title="Marram", created_at=at)
    session.add_all([app, store])
    session.flush()
    named = {"listed_name": "Marram", "platform": "android", "identifier": "x", "language": "en"}
    berth = tables.Berth(app_id=app.id, store_id=store.id, availability={}, created_at=at, **named)
    build = tables.Build(
        app_id=app.id, platform="android", version="1.0.0", number=BuildNumber("1"), created_at=at, created_by="p"
    )
    cohort = tables.Cohort(app_id=app.id, name="crew", kind=CohortKind.CREW, created_at=at)
    session.add_all([berth, build, cohort])
    session.flush()
    consignment = tables.Consignment(
        build_id=build.id, berth_id=berth.id, created_at=at, changed_at=at, sent_bytes=1, size_bytes=1
    )
    session.add(consignment)
    session.flush()
    trial = tables.Trial(
        cohort_id=cohort.id,
        consignment_id=consignment.id,
        state=TrialState.REJECTED,
        contact="",
        created_at=at,
        changed_at=at,
    )
    session.add(trial)
    session.flush()
    return trial


def test_words_of_the_ninth_release_are_carried_over_and_back(tmp_path: Path) -> None:
    database, at = Database(tmp_path / "desk.sqlite"), RealClock().now()
    today = read_rulebook((RULEBOOKS / "northgate.toml").read_text(encoding="utf-8"))
    northgate = of_that_time(today)
    account = {"standing": "expiring", "papers": [{"name": "paid apps", "state": "expired"}]}
    database.migrate()
    with database.writing() as session:
        store = tables.Store(
            name="northgate", may=[], rulebook=northgate.model_dump(mode="json"), account=account, connected_at=at
        )
        a_trial = trial_in(session, store, at)
        session.add(tables.Sighting(subject=a_trial.id, state="rejected", at=at, seen_at=at))
        session.add(tables.Sighting(subject="ro-1", state="rejected", at=at, seen_at=at))
        session.add(tables.Sighting(subject="t-2", state="expired", at=at, seen_at=at))
        ida = tables.Person(name="Ida", email="ida@example.org", password_hash="", created_at=at)
        session.add(ida)
        session.flush()
        told = {"channel": "mail", "address": ida.email, "kinds": [NoticeKind.EXPIRING], "apps": []}
        session.add(tables.Subscription(person_id=ida.id, created_at=at, **told))
    config = alembic.config.Config()
    config.set_main_option("script_location", str(Path(records.__file__).parent / "migrations"))
    with database.engine.connect() as connection:
        config.attributes["connection"] = connection
        alembic.command.downgrade(config, "0009")
        for asked, told in (
            ("SELECT state FROM trials", ["turned down"]),
            ("SELECT state FROM sightings ORDER BY subject = 'ro-1', state", ["lapsed", "turned down", "rejected"]),
            ("SELECT rulebook ->> '$.name.lapses_unused_days' FROM stores", [northgate.name.expires_unused_days]),
            ("SELECT account ->> '$.standing' FROM stores", ["lapsing"]),
            ("SELECT account ->> '$.papers[0].state' FROM stores", ["lapsed"]),
            ("SELECT kinds ->> '$[0]' FROM subscriptions", ["key or standing lapsing"]),
        ):
            assert list(connection.exec_driver_sql(asked).scalars()) == told
        connection.commit()
    database.migrate()
    with database.reading() as session:
        store = session.scalars(select(tables.Store)).one()
        assert (Rulebook.model_validate(store.rulebook), store.account) == (northgate, account)
        assert session.scalars(select(tables.Trial.state)).all() == [TrialState.REJECTED]
        assert sorted(session.scalars(select(tables.Sighting.state))) == ["expired", "rejected", "rejected"]
        assert session.scalars(select(tables.Subscription.kinds)).one() == [NoticeKind.EXPIRING]
    database.close()


def test_the_records_have_another_version_after_whatever_was_written(tmp_path: Path) -> None:
    database, other = (Database(tmp_path / "desk.sqlite") for _ in range(2))
    database.migrate()
    before = database.version()
    with database.reading() as session:
        session.scalar(select(tables.App))
    assert database.version() == before, "reading changes nothing"
    with database.writing() as session:
        session.add(tables.App(name="marram", title="Marram", created_at=datetime.now(UTC)))
    written = database.version()
    assert written != before
    with other.writing() as session:
        session.scalars(select(tables.App)).one().title = "Dune"
    assert (changed := database.version()) != written, "another process wrote"
    leases = [EngineLease(database).take() for _ in range(3)]
    assert leases == [leases[0]] * 3
    taken = database.version()
    assert taken != changed
    assert EngineLease(database).take() == leases[0]
    assert database.version() == taken, "a lease that is only renewed changes nothing that anybody asks for"
    with other.reading() as session:
        assert session.scalars(select(tables.Lease.until)).one() > datetime.now(UTC)
    for opened in (database, other):
        opened.close()


AT = "'2026-11-01 00:00:00.000000'"
A_RELEASE = (
    f"stores (id, name, may, rulebook, events_seen, connected_at) VALUES ('s-1', 'o', '[]', '{{}}', 0, {AT})",
    f"apps (id, name, title, created_at) VALUES ('a-1', 'm', 'M', {AT})",
    "berths (id, app_id, store_id, listed_name, platform, identifier, language, created_at)"
    f" VALUES ('be-1', 'a-1', 's-1', 'M', 'android', 'a', 'en', {AT})",
    "builds (id, app_id, platform, version, number, number_order, version_order, created_at, created_by)"
    f" VALUES ('b-1', 'a-1', 'android', '1.0.0', '1', '1', '1', {AT}, 'p')",
    f"releases (id, app_id, version, notes, revision, created_at) VALUES ('r-1', 'a-1', '1.0.0', '{{}}', 1, {AT})",
)
"""Rows that every revision of the tables takes."""


def at_revision(database: Database, revision: str, *rows: str) -> alembic.config.Config:
    """The tables as they were at a revision, with a release and these rows in them."""
    config = alembic.config.Config()
    config.set_main_option("script_location", str(Path(records.__file__).parent / "migrations"))
    with database.engine.connect() as connection:
        config.attributes["connection"] = connection
        alembic.command.upgrade(config, revision)
        for row in (*A_RELEASE, *rows):
            connection.exec_driver_sql(f"INSERT INTO {row}")
        connection.commit()
    return config


def test_legs_and_trials_of_the_eleventh_release_come_to_stand_on_tracks_and_back(tmp_path: Path) -> None:
    database = Database(tmp_path / "desk.sqlite")
    config = at_revision(
        database,
        "0011",
        "legs (id, release_id, berth_id, build_id, created_at, ladder, needs_go_ahead, with_other_legs, state, stage, share,"
        f" held_before_seconds, pauses_used) VALUES ('l-1', 'r-1', 'be-1', 'b-1', {AT}, '{{}}', 0, 0, 'rising', 0, 0.1, 0, 0)",
        f"cohorts (id, app_id, name, kind, created_at) VALUES ('c-1', 'a-1', 'g', 'guest', {AT})",
        "consignments (id, build_id, berth_id, state, created_at, changed_at, questions, answers, size_bytes, sent_bytes,"
        f" uploads) VALUES ('co-1', 'b-1', 'be-1', 'ready', {AT}, {AT}, '[]', '{{}}', 1, 1, '[]')",
        "trials (id, cohort_id, consignment_id, state, brief, contact, created_at, changed_at)"
        f" VALUES ('t-1', 'c-1', 'co-1', 'open', '{{}}', 'x', {AT}, {AT})",
    )
    database.migrate()
    with database.writing() as session:
        leg, trial = session.get(tables.Leg, "l-1"), session.get(tables.Trial, "t-1")
        assert leg is not None
        assert trial is not None
        assert (leg.track, leg.submits_itself, trial.track) == ("production", False, "guest")
        session.add(
            tables.Leg(
                release_id="r-1", berth_id="be-1", build_id="b-1", track="early", created_at=leg.created_at, ladder={}
            )
        )  # fmt: skip
    with database.engine.connect() as connection:
        config.attributes["connection"] = connection
        alembic.command.downgrade(config, "0011")
        assert connection.exec_driver_sql("SELECT id, state, share FROM legs").all() == [("l-1", "rising", 0.1)]
        connection.commit()
    database.migrate()
    database.close()


def test_launches_and_refusals_of_the_twentieth_release_become_conditions_and_matters(tmp_path: Path) -> None:
    database = Database(tmp_path / "desk.sqlite")
    config = at_revision(
        database,
        "0020",
        "legs (id, release_id, berth_id, build_id, created_at, ladder, needs_go_ahead, not_before, with_other_legs, go_ahead_at,"
        " state, stage, share, held_before_seconds, pauses_used)"
        f" VALUES ('l-1', 'r-1', 'be-1', 'b-1', {AT}, '{{}}', 1, '2026-12-01 08:00:00.000000', 1, {AT}, 'waiting', -1, 0, 0, 0)",
        "rounds (id, leg_id, number, build_id, state, submitted_at, changed_at, reasons)"
        f" VALUES ('ro-1', 'l-1', 1, 'b-1', 'rejected', {AT}, {AT}, '[\"Old.\"]')",
        "rounds (id, leg_id, number, build_id, state, submitted_at, changed_at, reasons)"
        f" VALUES ('ro-2', 'l-1', 2, 'b-1', 'rejected', {AT}, {AT}, '[\"No picture.\", \"No sign-in.\"]')",
    )
    database.migrate()
    with database.reading() as session:
        leg = session.get_one(tables.Leg, "l-1")
        assert [one.written() for one in go_aheads.conditions_of(leg)] == [
            "go-ahead", "after 2026-12-01T08:00+00:00 UTC", "approved",
        ]  # fmt: skip
        assert go_aheads.waits_for_people(leg) == []
        assert leg.looks_at == datetime(2026, 12, 1, 8, tzinfo=UTC)
        assert [(one.number, one.words, one.state, one.last_round) for one in leg.matters] == [
            (1, "No picture.", "open", 2), (2, "No sign-in.", "open", 2),
        ]  # fmt: skip
    with database.engine.connect() as connection:
        config.attributes["connection"] = connection
        alembic.command.downgrade(config, "0020")
        assert connection.exec_driver_sql("SELECT id, state FROM legs").all() == [("l-1", "waiting")]
        connection.commit()
    database.migrate()
    database.close()
