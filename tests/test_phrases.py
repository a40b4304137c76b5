"""What people read: said again in another language, kept without loss, and known to programs by a code."""

import json
import os
import subprocess
from ipaddress import IPv4Address

import pytest
from babel.messages.catalog import Catalog
from babel.messages.mofile import write_mo
from hypothesis import given
from hypothesis import strategies as st

from askport.core.phrases import ENGLISH, code_of, coded, listed, phrase, phrase_of, read_stored, stored, together
from askport.edges.languages import Pseudo, Translated, chosen
from conftest import ASKPORT

SENTENCES = (
    phrase("Nothing is {{known}}."),
    phrase("It answers at {address}.", address=IPv4Address("10.84.16.40")),
    phrase("{took:.1f} s of {most:,.0f}, {share:.1%}", took=1.25, most=12_000, share=0.5),
    phrase_of(1, "{count} device of {site}", "{count} devices of {site}", site="Sallow Beck"),
    together(phrase("First {inner}.", inner=phrase("within {depth}", depth=2)), "plain"),
    listed(["a", phrase("b"), IPv4Address("10.0.0.1")]),
)


@pytest.mark.parametrize("said", SENTENCES)
def test_what_is_kept_is_said_again_in_every_language(said):
    assert read_stored(stored(said), ENGLISH) == said
    assert read_stored(stored(said), Pseudo()) == said.in_language(Pseudo())


def test_a_translation_has_the_plural_forms_and_the_lists_of_its_language(tmp_path):
    catalogue = Catalog(locale="de")
    catalogue.add("It answers at {address}.", "Es antwortet unter {address}.")
    catalogue.add(("{count} device", "{count} devices"), ("{count} Gerät", "{count} Geräte"))
    catalogue.add("It is {known}.", "Es ist {bekannt}.")
    (tmp_path / "de/LC_MESSAGES").mkdir(parents=True)
    with (tmp_path / "de/LC_MESSAGES/askport.mo").open("wb") as file:
        write_mo(file, catalogue)
    german = Translated("de", tmp_path)
    said = together(
        phrase("It answers at {address}.", address=listed(["10.0.0.1", "10.0.0.2"])),
        phrase_of(2, "{count} device", "{count} devices"),
        phrase("Not in it."),
    )
    wrong = phrase("It is {known}.", known="there").in_language(german)
    assert wrong == "It is there.", "a translation that asks for other values is none"
    assert said.in_language(german) == "Es antwortet unter 10.0.0.1 und 10.0.0.2. 2 Geräte Not in it."


@pytest.mark.parametrize(
    "kept",
    [
        {"said": "{x.__class__}", "with": {"x": "1"}}, {"said": "{x:999999999}", "with": {"x": 1}},
        {"said": "{x[0]}", "with": {"x": "1"}}, {"said": "{x!r}", "with": {"x": "1"}},
        {"said": "{y}", "with": {"x": 1}},
        {"said": 7, "with": {}}, {"said": "{x:.1f}", "with": {"x": "text"}}, {"with": {}}, 7, None, ["x"],
        {"said": "one", "many": "{x.y}", "with": {"count": 1}}, {"said": "one", "many": "more", "with": {"count": "x"}},
    ],
)  # fmt: skip
def test_a_file_of_somebody_else_s_can_ask_for_nothing_but_its_values(kept):
    with pytest.raises(ValueError, match=r"text|template"):
        read_stored(kept)


@given(st.recursive(st.text() | st.integers() | st.floats(), lambda inner: st.lists(inner) | st.fixed_dictionaries(
    {"said": st.text(), "with": st.dictionaries(st.text(), inner)})))  # fmt: skip
def test_whatever_was_kept_is_read_or_refused(kept):
    try:
        assert isinstance(read_stored(kept), str)
    except ValueError:
        assert not isinstance(kept, str)


def test_a_code_stands_beside_each_sentence_and_has_none_of_its_values():
    document = coded({"because": SENTENCES[1], "steps": [{"text": SENTENCES[4], "at": None}], "told": {"because": []}})
    assert document["code"] == "it-answers-at" == code_of(phrase("It answers at {address}.", address="10.9.9.9"))
    assert (document["steps"][0]["code"], document["told"]) == ("first", {"because": [], "code": []})
    assert coded({"code": "known", "text": "x"}) == {"code": "known", "text": "x"}


@pytest.mark.parametrize(
    ("environment", "language"),
    [({}, "English"), ({"LANG": "C.UTF-8"}, "English"), ({"LANGUAGE": "nowhere:xx"}, "Pseudo"),
     ({"LANGUAGE": "", "LC_ALL": "xx", "LANG": "en_GB"}, "Pseudo"), ({"LANG": "en_GB.UTF-8"}, "English")],
)  # fmt: skip
def test_the_environment_says_which_language(environment, language):
    assert type(chosen(environment)).__name__ == language


def test_the_whole_example_comes_to_the_same_in_every_language(tmp_path):
    """Nothing is decided by a text: what is proven, why and by which way is the same where each text is another."""

    def come_to(language):
        folder = tmp_path / language
        subprocess.run([*ASKPORT, "demo", "--headless", folder], check=True, capture_output=True,
                       env=os.environ | {"LANGUAGE": language})  # fmt: skip
        devices = json.loads((folder / "register.json").read_text())["devices"]
        return [[device["tag"], device["state"], device["way"],
                 [[proof[key] for key in ("name", "passed", "because", "code")] for proof in device["proofs"]]]
                for device in devices]  # fmt: skip

    assert come_to("xx") == come_to("en")
