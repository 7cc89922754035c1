"""What comes back of recordings that are damaged on purpose, by coding and damage: pictures and frames of sound whose bytes are in the file and that play
again, of recordings made here with real encoders; and how long it takes beside `cat` and `sha256sum`.
"""

from __future__ import annotations

import argparse
import hashlib
import os
import random
import re
import struct
import subprocess
import tempfile
import time
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator
from pathlib import Path

from common import peak_memory, rustfern

SECONDS = 8
KINDS: dict[str, tuple[str, ...]] = {
    "h264, B pictures, aac.mp4": ("-c:v", "libx264", "-preset", "fast", "-bf", "3", "-c:a", "aac"),
    "h264, long groups.mp4": ("-c:v", "libx264", "-preset", "fast", "-g", "600", "-c:a", "aac", "-b:a", "64k"),
    "h264 as phones do.mp4": (
        "-c:v",
        "libx264",
        "-preset",
        "ultrafast",
        "-bf",
        "0",
        "-g",
        "30",
        "-slices",
        "4",
        "-c:a",
        "aac",
        "-ar",
        "48000",
    ),
    "h264, rotated.mov": ("-c:v", "libx264", "-preset", "fast", "-c:a", "aac", "-metadata:s:v:0", "rotate=90"),
    "h264, pcm.mov": ("-c:v", "libx264", "-preset", "fast", "-c:a", "pcm_s16le"),
    "h264, settings in it.mp4": (
        "-c:v",
        "libx264",
        "-preset",
        "fast",
        "-x264-params",
        "repeat-headers=1:aud=1",
        "-c:a",
        "aac",
    ),
    "h264, interlaced flags, mp3.mp4": ("-c:v", "libx264", "-preset", "fast", "-c:a", "libmp3lame"),
    "hevc, aac.mp4": (
        "-c:v",
        "libx265",
        "-preset",
        "ultrafast",
        "-tag:v",
        "hvc1",
        "-x265-params",
        "log-level=none",
        "-c:a",
        "aac",
    ),
    "mjpeg, pcm.mov": ("-c:v", "mjpeg", "-q:v", "6", "-c:a", "pcm_s16le"),
    "prores, pcm.mov": ("-c:v", "prores_ks", "-profile:v", "0", "-c:a", "pcm_s16le"),
    "av1, aac.mp4": ("-c:v", "libsvtav1", "-preset", "12", "-c:a", "aac"),
    "h264, flac.mp4": ("-c:v", "libx264", "-preset", "fast", "-c:a", "flac", "-sample_fmt", "s16", "-strict", "-2"),
    "h264, ac3.mp4": ("-c:v", "libx264", "-preset", "veryfast", "-c:a", "ac3"),
    "h264 that tells nothing of itself.mp4": (
        "-c:v",
        "libx264",
        "-preset",
        "medium",
        "-bsf:v",
        "filter_units=remove_types=6",
        "-c:a",
        "aac",
    ),
    "sound alone.m4a": ("-vn", "-c:a", "aac", "-b:a", "96k"),
}


def make(
    path: Path, seed: int, options: tuple[str, ...], seconds: float = SECONDS, size: str = "320x240", rate: str = "25"
) -> None:
    """A recording of something that moves, with sound that changes."""
    picture = (
        f"testsrc2=size={size}:rate={rate}:duration={seconds},hue=h={seed * 17}*t,noise=alls=6:allf=t:all_seed={seed}"
    )
    sound = f"aevalsrc=0.4*sin({300 + 31 * seed}*t*(1+0.2*sin(t)))+0.1*random({seed}):d={seconds}:s=44100"
    inputs = ["-f", "lavfi", "-i", picture, "-f", "lavfi", "-i", sound]
    pixels = (
        ()
        if "prores_ks" in options or "-vn" in options
        else ("-pix_fmt", "yuvj420p" if "mjpeg" in options else "yuv420p")
    )
    subprocess.run(["ffmpeg", "-v", "error", "-y", *inputs, *options, *pixels, str(path)], check=True)


def boxes(data: bytes) -> Iterator[tuple[bytes, int, int]]:
    """(kind, start, end) of the outer boxes."""
    at = 0
    while at + 8 <= len(data):
        length, kind = struct.unpack_from(">I4s", data, at)
        if length == 1:
            length = struct.unpack_from(">Q", data, at + 8)[0]
        yield kind, at, at + length
        at += length


def without_tables(data: bytes, chance: random.Random) -> bytes:
    """The recorder died before it wrote the tables; the size of the data was not written either."""
    kept = bytearray()
    for kind, start, end in boxes(data):
        if kind == b"mdat":
            kept += b"\0\0\0\0mdat" + data[start + 8 : end]
        elif kind != b"moov":
            kept += data[start:end]
    return bytes(kept)


def cut_off(data: bytes, chance: random.Random) -> bytes:
    """A copy that stopped."""
    kept = without_tables(data, chance)
    return kept[: int(len(kept) * chance.uniform(0.4, 0.9))]


def with_hole(data: bytes, chance: random.Random) -> bytes:
    """A lost cluster in the data, the tables whole."""
    _, start, end = max(boxes(data), key=lambda each: (each[0] == b"mdat", each[2] - each[1]))
    at = chance.randrange(start + 4096, max(end - 8192, start + 4097)) // 512 * 512
    return data[:at] + bytes(4096) + data[at + 4096 :]


def with_noise(data: bytes, chance: random.Random) -> bytes:
    """A cluster of something else in the data, and no tables."""
    whole = without_tables(data, chance)
    at = chance.randrange(len(whole) // 4, len(whole) * 3 // 4) // 512 * 512
    return whole[:at] + chance.randbytes(4096) + whole[at + 4096 :]


def with_wrong_places(data: bytes, chance: random.Random) -> bytes:
    """Tables that point a few bytes beside."""
    made = bytearray(data)
    at = made.find(b"stco")
    while at > 0:
        (count,) = struct.unpack_from(">I", made, at + 8)
        for n in range(count):
            place = at + 12 + 4 * n
            struct.pack_into(">I", made, place, struct.unpack_from(">I", made, place)[0] + 1234)
        at = made.find(b"stco", at + 4)
    return bytes(made)


DAMAGES: dict[str, Callable[[bytes, random.Random], bytes]] = {
    "never finished": without_tables,
    "cut off": cut_off,
    "a hole": with_hole,
    "a foreign cluster": with_noise,
    "wrong places": with_wrong_places,
}


def packets(path: Path, stream: str) -> list[tuple[int, int, str]]:
    """(place, bytes, sum) of each packet."""
    told = subprocess.run(
        ["ffprobe", "-v", "error", "-select_streams", stream, "-show_packets", "-show_data_hash", "md5", "-show_entries", "packet=pos,size,data_hash", "-of",
         "csv=p=0", str(path)], capture_output=True, text=True,
    ).stdout  # fmt: skip
    return [(int(at), int(size), told) for size, at, told in re.findall(r"^(\d+),(\d+),MD5:(\w+)", told, re.MULTILINE)]


def plays(path: Path) -> tuple[int, bool]:
    """(pictures that a decoder gives, whether it complains of nothing)."""
    run = subprocess.run(["ffmpeg", "-v", "error", "-i", str(path), "-f", "null", "-"], capture_output=True, text=True)
    told = subprocess.run(
        ["ffprobe", "-v", "error", "-count_frames", "-select_streams", "v:0", "-show_entries", "stream=nb_read_frames", "-of", "csv=p=0", str(path)],
        capture_output=True, text=True,
    ).stdout.strip().strip(",")  # fmt: skip
    return int(told) if told.isdigit() else 0, run.returncode == 0 and not run.stderr.strip()


def judge(original: Path, damaged: bytes, repaired: Path | None) -> dict[str, tuple[int, int]]:
    """(back, there) of pictures and frames of sound, and whether it plays."""
    told = {}
    whole = original.read_bytes()
    frames, clean = plays(repaired) if repaired is not None else (0, False)
    for name, stream in (("pictures", "v:0"), ("sound", "a:0")):
        every = packets(original, stream)
        there = Counter(each[2] for each in every if whole[each[0] : each[0] + each[1]] in damaged)
        back = Counter(each[2] for each in packets(repaired, stream)) if repaired is not None else Counter()
        count = (there & back).total()
        told[name] = (min(count, frames) if name == "pictures" else count), there.total()
    told["plays"] = int(clean), 1
    return told


def main() -> None:
    """Make, damage, repair, judge, print."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--only", default="", help="only kinds whose name holds this")
    parser.add_argument("--rounds", type=int, default=1)
    parser.add_argument("--hour", action="store_true", help="also one recording of an hour, for time and memory")
    asked = parser.parse_args()
    table: dict[tuple[str, str, bool], list[dict[str, tuple[int, int]]]] = defaultdict(list)
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        for number, (name, options) in enumerate(KINDS.items()):
            if asked.only not in name:
                continue
            sample, original = folder / f"sample {name}", folder / f"original {name}"
            make(sample, 40 + number, options, 3)
            for round_ in range(asked.rounds):
                make(original, number + 100 * round_, options)
                for damage, hurt in DAMAGES.items():
                    chance = random.Random(f"{name}{damage}{round_}")
                    data = hurt(original.read_bytes(), chance)
                    for like in (True, False):
                        alone = folder / hashlib.md5(f"{name}{damage}{like}".encode()).hexdigest()
                        alone.mkdir(exist_ok=True)
                        victim = alone / name
                        victim.write_bytes(data)
                        more = ["--like", str(sample)] if like else []
                        subprocess.run(
                            [rustfern(), "repair", str(victim), "--to", str(alone / "out"), *more], capture_output=True
                        )
                        found = sorted((alone / "out").glob("*(repaired)*"))
                        table[name, damage, like].append(judge(original, data, found[-1] if found else None))
                        for each in found:
                            each.unlink()
        for like in (True, False):
            print("with a sample" if like else "without a sample")
            for by in (0, 1):
                groups: dict[str, list[dict[str, tuple[int, int]]]] = defaultdict(list)
                for key, rows in table.items():
                    if key[2] is like:
                        groups[key[by]] += rows
                for group, rows in groups.items():
                    shares = []
                    for what in ("pictures", "sound", "plays"):
                        back, there = (sum(row[what][n] for row in rows) for n in (0, 1))
                        shares.append(f"{what} {back}/{there}" + (f" = {back / there:.3f}" if there else ""))
                    print(f"  {group:<34} {'  '.join(shares)}")
        if asked.hour:
            long(folder)


def long(folder: Path) -> None:
    """One of an hour: seconds and memory beside `cat` and `sha256sum`."""
    original, victim = folder / "hour.mp4", folder / "long" / "hour.mp4"
    victim.parent.mkdir()
    make(original, 1, KINDS["h264 as phones do.mp4"], 3600, "640x360", "30")
    sample = folder / "sample.mp4"
    make(sample, 2, KINDS["h264 as phones do.mp4"], 3, "640x360", "30")
    with original.open("r+b") as stream:
        at = 0
        while (head := stream.read(8)) and head[4:] != b"moov":
            if head[4:] == b"mdat":
                stream.seek(at)
                stream.write(bytes(4))
            at += int.from_bytes(head[:4], "big")
            stream.seek(at)
        stream.truncate(at)
    original.rename(victim)
    began = time.perf_counter()
    for command in ("cat", "sha256sum"):
        subprocess.run([command, str(victim)], stdout=subprocess.DEVNULL, check=True)
    plain = time.perf_counter() - began
    command = [rustfern(), "repair", str(victim), "--to", str(folder / "long-out"), "--like", str(sample)]
    seconds, memory, _ = peak_memory(command, dict(os.environ))
    print(
        f"an hour, {victim.stat().st_size / 1e6:.0f} MB: {seconds:.1f} s, {seconds / plain:.1f} of cat and sha256sum (at most 2); {memory / 1e6:.0f} MB (at most 200)"
    )


if __name__ == "__main__":
    main()
