"""The dossier as files: compared three ways, read and written without losing anything."""

from __future__ import annotations

import tempfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from restless_tide.core.dossier_folder import Place, Side, compare, digest_of
from restless_tide.core.errors import Invalid
from restless_tide.folders.files import DossierFolder
from restless_tide.wire.base import _in_lines

LINE = Place("en", "summary")
OWN = Place("en", "summary", "openfield")


@pytest.mark.parametrize(
    ("agreed", "here", "desk", "side"),
    [
        ("old", "old", "old", None),
        ("old", "new", "old", Side.HERE),
        ("old", "old", "new", Side.DESK),
        ("old", "mine", "theirs", Side.BOTH),
        ("old", "new", "new", None),
        ("", "new", "", Side.HERE),
        ("", "", "new", Side.DESK),
        ("", "mine", "theirs", Side.BOTH),
        ("old", "", "old", Side.HERE),
        ("old", "old", "", Side.DESK),
        ("old", "", "new", Side.BOTH),
    ],
)
def test_a_difference_has_the_side_that_changed_it(agreed: str, here: str, desk: str, side: Side | None) -> None:
    found = compare({LINE: digest_of(agreed)}, {LINE: here} if here else {}, {LINE: desk} if desk else {})
    assert [one.side for one in found] == ([side] if side else [])


def fit(text: str) -> bool:
    try:
        return bool(_in_lines(text)) and _in_lines(text) == text
    except ValueError:
        return False


@given(st.dictionaries(st.sampled_from([LINE, OWN, Place("de-AT", "description"), Place("nb", "summary", "openfield")]),
                       st.text(min_size=1, max_size=60).filter(fit), min_size=1))  # fmt: skip
def test_what_is_written_to_a_folder_is_read_back_as_it_was(texts: dict[Place, str]) -> None:
    with tempfile.TemporaryDirectory() as path:
        folder = DossierFolder(Path(path) / "dossier")
        folder.begin("marram")
        folder.write(texts)
        folder.agree({place: digest_of(text) for place, text in texts.items()})
        assert folder.texts() == texts
        assert folder.agreed() == {place: digest_of(text) for place, text in texts.items()}
        before = {file: file.read_bytes() for file in folder.path.rglob("*.toml")}
        folder.write(texts)
        assert {file: file.read_bytes() for file in folder.path.rglob("*.toml")} == before


def test_a_persons_comments_and_sequence_stay_when_one_text_changes(tmp_path: Path) -> None:
    folder = DossierFolder(tmp_path)
    folder.begin("marram")
    file = tmp_path / "texts" / "en.toml"
    file.parent.mkdir()
    file.write_text(
        '# ours\nsummary = "A diary."  # short\n\ndescription = """\nFor walks.\nAnd more."""\n', encoding="utf-8"
    )
    folder.write({LINE: "Another."})
    assert file.read_text(encoding="utf-8") == (
        '# ours\nsummary = "Another."  # short\n\ndescription = """\nFor walks.\nAnd more."""\n'
    )
    folder.write({LINE: "", Place("en", "description"): ""})
    assert not file.exists()


@pytest.mark.parametrize(
    ("files", "told"),
    [
        ({"texts/english.toml": 'summary = "x"'}, "texts/english.toml: 'english' is no locale"),
        ({"texts/de-AT.toml": 'summary = "x"', "texts/de-at.toml": 'summary = "y"'}, "are both about de-AT"),
        (
            {"stores/openfield.toml": '[texts.de-AT]\nsummary = "x"\n[texts.de-at]\nsummary = "y"'},
            "names summary for de-AT twice",
        ),
        ({"texts/en.toml": "summary = "}, "is no TOML"),
        ({"texts/en.toml": "summary = 7"}, "summary: Input should be a valid string"),
        ({"texts/en.toml": 'Summary = "x"'}, "Summary"),
        ({"texts/en.toml": 'summary = "a\\u0007b"'}, "control character"),
        ({"texts/en.toml": f'summary = "{"x" * 50_001}"'}, "50000 characters"),
        ({"stores/openfield.toml": 'colour = "x"'}, "colour: Extra inputs"),
        ({"dossier.toml": "format = 2\napp = 'marram'"}, "format"),
        ({"dossier.toml": "format = 1"}, "app: Field required"),
    ],
)
def test_a_mistake_in_a_folder_is_told_with_its_file(files: dict[str, str], told: str, tmp_path: Path) -> None:
    folder = DossierFolder(tmp_path)
    folder.begin("marram")
    for name, text in files.items():
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_text(text, encoding="utf-8")
    with pytest.raises(Invalid, match=told):
        everything_in(folder)


def everything_in(folder: DossierFolder) -> tuple[str, dict[Place, str]]:
    return folder.app(), folder.texts()


def test_a_folder_that_is_none_says_how_to_make_one(tmp_path: Path) -> None:
    with pytest.raises(Invalid, match="no dossier folder") as refused:
        DossierFolder(tmp_path).app()
    assert "tide dossier fetch" in refused.value.remedy
