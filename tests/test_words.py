"""What a person reads: no word that the trade does not say, and one glossary everywhere."""

from pathlib import Path

import pytest
from PyQt6.QtWidgets import QLabel

from cloudrift.desktop.frame.words_sheet import MORE_WORDS, WordsSheet
from cloudrift.desktop.kit.own_words import OWN_WORDS
from tools import words

ROOT = Path(__file__).parent.parent


def test_nothing_that_can_be_read_says_it_otherwise_than_the_trade():
    assert words.findings(words.all_texts()) == []


@pytest.mark.parametrize(("source", "found"), [
    ('button("Let go", act)', "say detach"),
    ('x.setToolTip(f"{name} is not heard")', "say plays"),
    ('label("parked")', "say off"),
    ('raise Wrong(f"{path} is no loop")', "say is not a"),
    ('@click.command()\ndef hear():\n    """A layer that is parked."""', "say off"),
    ('button("Render each layer of the loop separately", act)', "letters on a button"),
])  # fmt: skip
def test_a_word_to_avoid_is_found_where_it_is_said(tmp_path, monkeypatch, source, found):
    file = tmp_path / "said.py"
    file.write_text(source)
    monkeypatch.setattr(words, "ROOT", tmp_path)
    (wrong,) = words.findings(words.in_source(file))
    assert wrong.startswith("said.py:") and found in wrong


def test_what_nobody_reads_is_no_text(tmp_path):
    file = tmp_path / "said.py"
    file.write_text(
        '"""A docstring that is parked."""\n'
        '__all__ = ["Parked Name"]\n'
        'box.setObjectName("a parked name")\n'
        'x: "Some Type" = kinds["a key of it"]\n'
        'y = {"a key that is parked": "What is read"}\n'
        'label("solo")\nname = "solo"\n'
    )
    assert [text.text for text in words.in_source(file)] == ["What is read", "solo"]


def test_code_in_documents_is_not_read(tmp_path):
    file = tmp_path / "x.md"
    file.write_text("Say `parked` here.\n\n```\nparked\n```\nEnd\n")
    assert [text.text for text in words.in_document(file)] == ["Say  here.", "End"]


def test_the_glossary_is_the_same_in_the_window_and_in_the_documents(qtbot, window):
    meant = {one.word: one.says for one in OWN_WORDS.values()} | MORE_WORDS
    text = (ROOT / "docs" / "words.md").read_text("utf-8")
    assert [f"| **{word}** | {meant[word]} |" for word in sorted(meant, key=str.lower)] == [
        line for line in text.splitlines() if line.startswith("| **")
    ]
    sheet = WordsSheet(window)
    assert set(meant.values()) <= {one.text() for one in sheet.findChildren(QLabel)}
