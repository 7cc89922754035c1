"""Swap files of the real editors: byte for byte what the editor itself rebuilds; broken ones are damage, never an error."""

from __future__ import annotations

import io
import lzma
import os
import struct
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import DATA, Run, best_of, by_name, member, packed, write
from hypothesis import given, settings
from hypothesis import strategies as st

from rustfern.core.errors import Malformed
from rustfern.traces import joe_dead, kate_journal, record_file, vim_swap

SWAPS = packed("swaps.tar.xz")
CASES = sorted({name.split("/")[0] for name in SWAPS})
OPENED = 1_790_000_000
Rustfern = Callable[..., Run]


def rebuilt(data: bytes, original: bytes | None) -> vim_swap.Rebuilt:
    return vim_swap.rebuild(io.BytesIO(data), len(data), original)


@pytest.mark.parametrize("case", CASES)
def test_byte_for_byte_what_the_editor_rebuilds(case: str) -> None:
    found = rebuilt(SWAPS[f"{case}/plan.swp"], SWAPS[f"{case}/original.txt"])
    assert found.data == SWAPS[f"{case}/expected.txt"] and found.missing == 0
    if "large" in case:
        assert found.from_original > 7000


@pytest.mark.parametrize("case", CASES)
def test_the_first_block(case: str) -> None:
    header = vim_swap.parse(io.BytesIO(SWAPS[f"{case}/plan.swp"]))
    assert header.dirty and not header.encrypted and not header.lock_only and header.path.endswith("plan.txt")
    assert header.opened_version is not None and header.opened_version.timestamp() == OPENED
    assert header.line_end == (b"\r\n" if "dos" in case else b"\n")


@pytest.mark.parametrize("case", ["vim-large", "nvim-large"])
def test_lines_of_a_lost_original_are_counted(case: str) -> None:
    found = rebuilt(SWAPS[f"{case}/plan.swp"], None)
    typed = {"vim-large": b"last line of all", "nvim-large": b"inserted in the middle"}[case]
    assert found.missing > 7000 and typed[2:] in found.data


@given(st.sampled_from(CASES), st.floats(0, 1), st.binary(min_size=1, max_size=200))
@settings(max_examples=150)
def test_mutated_swap_files(case: str, where: float, what: bytes) -> None:
    hurt = bytearray(SWAPS[f"{case}/plan.swp"])
    at = int(where * (len(hurt) - 1))
    hurt[at : at + len(what)] = what
    try:
        assert rebuilt(bytes(hurt), None).lines >= 0
    except Malformed as error:
        assert error.reason


def wounded(at: int, form: str, *values: int) -> bytes:
    hurt = bytearray(SWAPS["vim-small/plan.swp"])
    struct.pack_into(form, hurt, at, *values)
    return bytes(hurt)


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b"", "not a swap file"),
        (bytes(8192), "not a swap file"),
        (SWAPS["vim-small/plan.swp"][:4096], "beyond its end|cut off"),
        (wounded(4096 + 2, "<H", 60_000), "more entries"),
        (wounded(4096 + 4, "<H", 3), "wrong size"),
        (wounded(4096 + 8, "<q", 1), "nested too deep|twice|no data block"),
        (wounded(4096 + 8, "<q", 1 << 40), "beyond its end"),
        (wounded(1008, "<I", 7), "damaged"),
    ],
)
def test_swap_files_that_lie(data: bytes, said: str) -> None:
    with pytest.raises(Malformed, match=said):
        rebuilt(data, b"")


def lay_out(tmp_path: Path, case: str, *, path: bytes = b"", changed: bool = False) -> Path:
    """A home with the original (as it was, or changed since) and the swap file, whose path is put where the home is."""
    home = tmp_path / "d" / "home" / "ines"
    (home / ".config").mkdir(parents=True)
    original = SWAPS[f"{case}/original.txt"] + (b"saved again\n" if changed else b"")
    write(home / "Documents" / "plan.txt", original, OPENED + (5000 if changed else 0))
    swap = bytearray(SWAPS[f"{case}/plan.swp"])
    name = path or b"~ines/Documents/plan.txt"
    end = swap.index(b"\0", 108)
    swap[108 : max(end, 108 + len(name))] = name.ljust(max(end - 108, len(name)), b"\0")
    write(home / "Documents" / ".plan.txt.swp", bytes(swap), OPENED + 9000)
    return home


@pytest.mark.parametrize("case", ["vim-small", "vim-large", "nvim-large", "vim-latin1-dos"])
def test_a_swap_file_is_found_rebuilt_and_restored(case: str, tmp_path: Path, rustfern: Rustfern) -> None:
    home = lay_out(tmp_path, case)
    document = by_name(rustfern("scan", tmp_path / "d", "--json").json, "plan.txt")
    best = best_of(document)
    assert (document["situation"], best["kind"], best["state"]) == ("crashed", "swap", "intact")
    assert document["original"] == str(home / "Documents" / "plan.txt") and document["locks"][0]["path"] == best["path"]
    assert best["needs"] == (["1a"] if "large" in case else []) and best["rebuilt_by"] == "vim-swap"
    row = rustfern("restore", "1", "--to", tmp_path / "out", "--json").json["restored"][0]
    assert Path(row["to"]).read_bytes() == SWAPS[f"{case}/expected.txt"] and row["sha256"] == best["sha256"]
    assert "rebuilt whole from the swap file" in rustfern("look", "1").out


def test_a_swap_file_whose_original_was_saved_again(tmp_path: Path, rustfern: Rustfern) -> None:
    """It must not be rebuilt on another version; a backup that is the very version that was opened will do."""
    home = lay_out(tmp_path, "vim-large", changed=True)
    document = by_name(rustfern("scan", tmp_path / "d", "--json").json, "plan.txt")
    swap = next(c for c in document["copies"] if c["kind"] == "swap")
    assert swap["state"] == "damaged" and "no copy of that version" in swap["reason"] and document["best"] != swap["id"]
    write(home / "Documents" / "plan.txt~", SWAPS["vim-large/original.txt"], OPENED)
    document = by_name(rustfern("scan", tmp_path / "d", "--json").json, "plan.txt")
    swap, backup = (next(c for c in document["copies"] if c["kind"] == kind) for kind in ("swap", "backup"))
    assert swap["state"] == "intact" and swap["needs"] == [backup["id"]]


def test_a_text_that_was_never_named(tmp_path: Path, rustfern: Rustfern) -> None:
    home = lay_out(tmp_path, "vim-small")
    swap = home / "Documents" / ".plan.txt.swp"
    data = bytearray(swap.read_bytes())
    data[108:900] = bytes(792)
    write(home / ".swp", bytes(data), OPENED)
    swap.unlink()
    document = by_name(rustfern("scan", tmp_path / "d", "--json").json, "Unnamed text")
    assert (
        document["situation"] == "never-saved" and document["original"] is None and best_of(document)["kind"] == "swap"
    )
    run = rustfern("restore", str(document["id"]), "--to", tmp_path / "out", "--json")
    assert run.json["restored"][0]["to"].endswith(".txt")


def test_an_encrypted_swap_file_is_said_to_be(tmp_path: Path, rustfern: Rustfern) -> None:
    home = lay_out(tmp_path, "vim-small")
    swap = home / "Documents" / ".plan.txt.swp"
    write(swap, b"bd" + swap.read_bytes()[2:], OPENED + 9000)
    document = by_name(rustfern("scan", tmp_path / "d", "--json").json, "plan.txt")
    assert next(c for c in document["copies"] if c["kind"] == "swap")["state"] == "encrypted"


def test_names_like_swap_files_that_are_none(tmp_path: Path, rustfern: Rustfern) -> None:
    write(tmp_path / "d" / ".movie.txt.swp", os.urandom(5000))
    write(tmp_path / "d" / ".empty.txt.swp", b"")
    answer = rustfern("scan", tmp_path / "d", "--json").json
    assert answer["documents"] == [] and len(answer["problems"]) == 1


# --- Kate and joe ---------------------------------------------------------------------------------------------------

JOURNAL = member("kate-swp", "home/ines/Documents/.slip-roster.txt.kate-swp")
ROSTER = member("kate-swp", "home/ines/Documents/slip-roster.txt")
DEAD = member("joe-deadjoe", "home/ines/Documents/DEADJOE")


def journal_of(base: bytes, *records: bytes) -> bytes:
    """A journal on a text."""
    mark = b"Kate Swap File 2.0"
    return (
        len(mark).to_bytes(4, "big") + mark + (20).to_bytes(4, "big") + kate_journal.blob_id(base) + b"".join(records)
    )


def insert(line: int, column: int, text: str) -> bytes:
    data = text.encode()
    return b"I" + struct.pack(">iiI", line, column, len(data)) + data


def test_a_captured_journal_is_replayed_byte_for_byte() -> None:
    journal = kate_journal.parse(JOURNAL)
    assert journal.base == kate_journal.blob_id(ROSTER) and journal.cut_at is None
    assert kate_journal.replay(journal, ROSTER).data == (DATA / "kate-expected.txt").read_bytes()


@pytest.mark.parametrize(
    ("base", "records", "after"),
    [
        (b"ab\ncd\n", [insert(0, 1, "X")], b"aXb\ncd\n"),
        (b"ab\ncd\n", [b"R" + struct.pack(">iii", 1, 0, 1)], b"ab\nd\n"),
        (b"ab\ncd\n", [b"W" + struct.pack(">ii", 0, 1)], b"a\nb\ncd\n"),
        (b"ab\ncd\n", [b"U" + struct.pack(">i", 1)], b"abcd\n"),
        ("\U0001f6a2b".encode(), [insert(0, 2, "x")], "\U0001f6a2xb".encode()),
        (b"ab", [b"S", insert(0, 2, "c"), b"E", b"I\0\0"], b"abc"),
    ],
)
def test_journal_records(base: bytes, records: list[bytes], after: bytes) -> None:
    assert kate_journal.replay(kate_journal.parse(journal_of(base, *records)), base).data == after


@given(st.binary(max_size=200))
def test_any_journal(tail: bytes) -> None:
    try:
        kate_journal.replay(kate_journal.parse(journal_of(b"ab\ncd\n", tail)), b"ab\ncd\n")
        kate_journal.parse(tail)
    except Malformed as error:
        assert error.reason


def test_a_journal_that_fits_no_version_is_not_replayed(tmp_path: Path, rustfern: Rustfern) -> None:
    home = tmp_path / "d" / "home" / "ines"
    (home / ".config").mkdir(parents=True)
    write(home / "Documents" / "slip-roster.txt", ROSTER + b"saved by another program\n", OPENED)
    write(home / "Documents" / ".slip-roster.txt.kate-swp", JOURNAL, OPENED + 60)
    document = by_name(rustfern("scan", tmp_path / "d", "--json").json, "slip-roster.txt")
    journal = next(c for c in document["copies"] if c["kind"] == "swap")
    assert journal["state"] == "damaged" and "no copy of the version" in journal["reason"]
    assert best_of(document)["kind"] == "saved" and document["situation"] == "crashed"
    write(home / "Documents" / "slip-roster.txt~", ROSTER, OPENED - 60)
    document = by_name(rustfern("scan", tmp_path / "d", "--json").json, "slip-roster.txt")
    journal = next(c for c in document["copies"] if c["kind"] == "swap")
    assert journal["state"] == "intact" and len(journal["needs"]) == 1
    row = rustfern("restore", journal["id"], "--to", tmp_path / "out", "--json").json["restored"][0]
    assert Path(row["to"]).read_bytes() == (DATA / "kate-expected.txt").read_bytes()


def test_a_captured_dead_file_is_taken_apart() -> None:
    found = joe_dead.parse(DEAD)
    assert [(text.name, text.number) for text in found] == [("paint-list.txt", 1), ("galley-inventory.txt", 2)]
    assert found[1].data.endswith(b"gas locker drain blocked with leaves") and found[0].when_local is not None


def test_later_sessions_are_later_versions(tmp_path: Path, rustfern: Rustfern) -> None:
    home = tmp_path / "d" / "home" / "ines"
    (home / ".config").mkdir(parents=True)
    again = DEAD.replace(b"Nov 23 06:23", b"Nov 23 08:10").replace(b"gimbal stove", b"gimbal stove and kettle lid")
    note = b"\n*** File '(Unnamed)'\nring the harbour office about the crane\n"
    write(home / "Documents" / "DEADJOE", DEAD + again + note, OPENED)
    write(home / "Documents" / "galley-inventory.txt", "Galley inventory, Grey Heron\nkettle\ntwo pans\n", OPENED - 900)
    answer = rustfern("scan", tmp_path / "d", "--json").json
    document = by_name(answer, "galley-inventory.txt")
    assert [c["part"] for c in document["copies"]] == [None, "2", "4"] and best_of(document)["part"] == "4"
    assert by_name(answer, "Unnamed text")["situation"] == "never-saved"
    row = rustfern("restore", document["best"], "--to", tmp_path / "out", "--json").json["restored"][0]
    assert b"kettle lid" in Path(row["to"]).read_bytes() and row["to"].endswith(".txt")


@given(st.binary(max_size=300))
def test_any_dead_file(tail: bytes) -> None:
    for data in (tail, DEAD + tail):
        try:
            assert all(text.number for text in joe_dead.parse(data))
        except Malformed as error:
            assert error.reason


RECORDS = lzma.decompress((DATA / "nvi-records.xz").read_bytes())


def test_a_text_kept_line_by_line() -> None:
    """A capture of nvi: five lines taken out of three thousand, one put in, one of 9,000 letters (pages of its own)."""
    lines = [f"{number:05} plank of larch, checked by Tobias".encode() for number in range(3000)]
    lines[1500:1500] = [b"inserted in the middle"]
    del lines[9:14]
    assert record_file.parse(RECORDS) == record_file.Lines([*lines, b"x" * 9000, b"last"], 0)
    assert record_file.letter(
        b"X-vi-recover-file: a b.txt\nX-vi-recover-path: /var/tmp/vi.recover/vi.Ab12Cd\n\nHello"
    ) == (
        "a b.txt",
        "/var/tmp/vi.recover/vi.Ab12Cd",
    )
    assert record_file.letter(b"Subject: no letter of an editor\n") is None


@given(st.integers(0, len(RECORDS) - 1), st.binary(max_size=40), st.integers(0, len(RECORDS)))
def test_any_record_file(at: int, put: bytes, end: int) -> None:
    for data in (put, RECORDS[:end], RECORDS[:at] + put + RECORDS[at + len(put) :]):
        try:
            found = record_file.parse(data)
            assert found.missing >= 0 and sum(map(len, found.lines)) <= 4 * len(data)
        except Malformed as error:
            assert error.reason
