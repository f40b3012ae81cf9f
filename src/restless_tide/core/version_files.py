"""Putting version and number into a project's own file, every other byte left as it was.

A place in the file is named by its keys with dots, as in ``project.version`` or ``android.versionCode``.
The file is parsed twice: to find where the value stands, and afterwards to prove that nothing else
changed.
"""

from __future__ import annotations

import json
import plistlib
import re
import tomllib
from collections.abc import Callable, Mapping
from typing import Any
from xml.parsers import expat

import tomlkit
import yaml
from tomlkit.exceptions import TOMLKitError

from restless_tide.core.errors import Invalid

_PROPERTY = re.compile(
    r"^[ \t\f]*(?P<key>(?:\\.|[^\s=:#!\\])+)[ \t\f]*[=: ][ \t\f]*(?P<value>.*?)[ \t]*\r?$", re.MULTILINE
)


def write_into(name: str, content: str, values: Mapping[str, str | int]) -> str:
    """The file's text with ``values`` (by dotted key) in place. Raises Invalid naming what does not fit.

    ``name`` is the file's name; its ending tells the form: .toml, .json, .yaml, .yml, .properties, .plist.
    """
    form = name.rpartition(".")[2].lower()
    if form not in _FORMS:
        raise Invalid(
            f"{name} is of no form that can be written.",
            remedy=f"Forms: {', '.join(f'.{known}' for known in _FORMS)}.",
            code="version-file-unknown",
        )
    read, change = _FORMS[form]
    before = _read(read, content, name)
    for key, value in values.items():
        content = change(content, key.split("."), value, name)
    after = _read(read, content, name)
    expected = before
    for key, value in values.items():
        expected = _with(expected, key.split("."), value)
    if after != expected:
        raise Invalid(f"{name} could not be changed without touching more than that.", code="version-file-unfit")
    return content


def _read(read: Callable[[str], Any], content: str, name: str) -> Any:
    try:
        return read(content)
    except (ValueError, yaml.YAMLError, TOMLKitError, expat.ExpatError) as wrong:
        told = str(wrong).splitlines()[0] if str(wrong) else type(wrong).__name__
        raise Invalid(f"{name} cannot be read: {told}.", code="version-file-broken") from None


def _with(document: Any, keys: list[str], value: str | int) -> Any:
    """The parsed document with the value in place; numbers stay numbers only where they were."""
    if not keys:
        return str(value) if isinstance(document, str) else value
    if isinstance(document, list):
        place = int(keys[0])
        return [*document[:place], _with(document[place], keys[1:], value), *document[place + 1 :]]
    if len(keys) > 1 and ".".join(keys) in document:  # a form without levels: the dots belong to the key
        return {**document, ".".join(keys): str(value)}
    return {**document, keys[0]: _with(document[keys[0]], keys[1:], value)}


def _missing(key: list[str], name: str) -> Invalid:
    return Invalid(
        f"{name} has no value at {'.'.join(key)}.",
        remedy="Name the key as it stands in the file, with dots between the levels.",
        code="version-key-missing",
    )


# JSON


def _change_json(content: str, key: list[str], value: str | int, name: str) -> str:
    at = _json_value(content, _blank(content, 0), key, name, key)
    old, end = json.JSONDecoder().raw_decode(content, at)
    return content[:at] + json.dumps(str(value) if isinstance(old, str) else value) + content[end:]


def _json_value(content: str, at: int, key: list[str], name: str, whole: list[str]) -> int:
    """Where the value of ``key`` begins, looking from a value at ``at``."""
    if not key:
        return at
    decoder = json.JSONDecoder()
    if content[at] not in "{[":
        raise _missing(whole, name)
    closing, index, within = "}" if content[at] == "{" else "]", 0, _blank(content, at + 1)
    while content[within] != closing:
        found = str(index)
        if closing == "}":
            found, within = decoder.raw_decode(content, within)
            within = _blank(content, _blank(content, within) + 1)
        if found == key[0]:
            return _json_value(content, within, key[1:], name, whole)
        _, within = decoder.raw_decode(content, within)
        within, index = _blank(content, within), index + 1
        if content[within] == ",":
            within = _blank(content, within + 1)
    raise _missing(whole, name)


def _blank(content: str, at: int) -> int:
    while content[at : at + 1].isspace():
        at += 1
    return at


# TOML


def _change_toml(content: str, key: list[str], value: str | int, name: str) -> str:
    document = tomlkit.parse(content)
    table: Any = document
    for part in key[:-1]:
        table = table.get(part) if isinstance(table, dict) else None
    old = table.get(key[-1]) if isinstance(table, dict) else None
    if old is None:
        raise _missing(key, name)
    new = tomlkit.item(str(value) if isinstance(old, str) else value)
    new.trivia.comment, new.trivia.comment_ws = old.trivia.comment, old.trivia.comment_ws
    new.trivia.trail, new.trivia.indent = old.trivia.trail, old.trivia.indent
    table[key[-1]] = new
    return tomlkit.dumps(document)


# YAML


def _change_yaml(content: str, key: list[str], value: str | int, name: str) -> str:
    node = yaml.compose(content, Loader=yaml.SafeLoader)
    for part in key:
        children: list[Any] = []
        if isinstance(node, yaml.MappingNode):
            children = [below for above, below in node.value if above.value == part]
        elif isinstance(node, yaml.SequenceNode) and part.isdecimal() and int(part) < len(node.value):
            children = [node.value[int(part)]]
        if not children:
            raise _missing(key, name)
        node = children[0]
    if not isinstance(node, yaml.ScalarNode) or node.style in ("|", ">"):
        raise _missing(key, name)
    is_text = node.tag.endswith(":str") or isinstance(value, str)
    quote = node.style or ("'" if is_text and not _is_plain(str(value)) else "")
    return content[: node.start_mark.index] + f"{quote}{value}{quote}" + content[node.end_mark.index :]


def _is_plain(text: str) -> bool:
    return isinstance(yaml.safe_load(text), str)


# properties


def _read_properties(content: str) -> dict[str, str]:
    return {found["key"]: found["value"] for found in _PROPERTY.finditer(content)}


def _change_properties(content: str, key: list[str], value: str | int, name: str) -> str:
    places = [found for found in _PROPERTY.finditer(content) if found["key"] == ".".join(key)]
    if not places:
        raise _missing(key, name)
    return content[: places[-1].start("value")] + str(value) + content[places[-1].end("value") :]


# property lists


def _read_plist(content: str) -> Any:
    return plistlib.loads(content.encode())


def _change_plist(content: str, key: list[str], value: str | int, name: str) -> str:
    octets = content.encode()
    place = _plist_place(octets, key)
    if place is None:
        raise _missing(key, name)
    return (octets[: place[0]] + str(value).encode() + octets[place[1] :]).decode()


def _plist_place(octets: bytes, wanted: list[str]) -> tuple[int, int] | None:
    """Where the text of the value at ``wanted`` stands, in octets."""
    parser = expat.ParserCreate()
    path: list[str | None] = []
    last_key: list[str] = [""]
    text: list[str] = []
    begin, found = [0], []

    def opened(tag: str, _: dict[str, str]) -> None:
        text.clear()
        begin[0] = octets.index(b">", parser.CurrentByteIndex) + 1
        if tag == "dict":
            path.append(last_key[0] if path else None)

    def closed(tag: str) -> None:
        if tag == "dict":
            path.pop()
        elif tag == "key":
            last_key[0] = "".join(text)
        elif tag in ("string", "integer") and [*path[1:], last_key[0]] == wanted:
            found.append((begin[0], parser.CurrentByteIndex))

    parser.StartElementHandler, parser.EndElementHandler = opened, closed
    parser.CharacterDataHandler = text.append
    parser.Parse(octets, True)
    return found[0] if found else None


_FORMS: dict[str, tuple[Callable[[str], Any], Callable[[str, list[str], str | int, str], str]]] = {
    "toml": (tomllib.loads, _change_toml),
    "json": (json.loads, _change_json),
    "yaml": (yaml.safe_load, _change_yaml),
    "yml": (yaml.safe_load, _change_yaml),
    "properties": (_read_properties, _change_properties),
    "plist": (_read_plist, _change_plist),
}
