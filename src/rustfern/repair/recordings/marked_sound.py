"""Descriptions of sound whose frames say themselves how they are coded, where no table does: MPEG layer 3, AC-3 and its enhanced kind, FLAC.

Source: ISO/IEC 11172-3, 2.4.1.3; ETSI TS 102 366, 4.3, E.1.2, F.4 and F.6; RFC 9639, 8.2 and 9.1; FLAC in ISO base media files, 3.3.2.
"""

from __future__ import annotations

import struct

from rustfern.formats.media.flac import frame_header
from rustfern.repair.recordings.more_ways import Ac3, FlacFrames
from rustfern.repair.recordings.tables import Track
from rustfern.repair.recordings.ways import Mp3, Way
from rustfern.repair.recordings.write import box, entry_of_plain, full

_AC3_RATES, _AC3_CHANNELS, _AC3_SAMPLES = (48000, 44100, 32000), (2, 1, 2, 3, 3, 4, 4, 5), 1536
_MORE_BITS = {2: 2, 3: 2, 4: 2, 5: 4, 6: 2, 7: 4}
"""By which channels there are: bits of how loud some of them are, before the one that tells of low tones (4.3.2)."""
_FLAC_RATES = (0, 88200, 176400, 192000, 8000, 16000, 22050, 24000, 32000, 44100, 48000, 96000)
_FLAC_BITS = (0, 8, 12, 0, 16, 20, 24, 32)
_MP3_RATES, _MP3_PARTS = (44100, 48000, 32000), {3: 1, 2: 2, 0: 4}


def track_of(way: Way, head: bytes) -> Track | None:
    """What a frame's first bytes tell of its track; None where they do not tell enough."""
    if isinstance(way, Mp3):
        return _mp3(head)
    if isinstance(way, Ac3):
        return _enhanced(head) if head[5] >> 3 > 10 else _ac3(head)
    return _flac(head) if isinstance(way, FlacFrames) else None


def _mp3(head: bytes) -> Track | None:
    version, code = head[1] >> 3 & 3, head[2] >> 2 & 3
    if version not in _MP3_PARTS or code > 2:
        return None
    rate, channels = _MP3_RATES[code] // _MP3_PARTS[version], 1 if head[3] >> 6 == 3 else 2
    return Track(b"soun", entry_of_plain(b".mp3", channels, 16, rate), rate, 1152 if version == 3 else 576)


def _ac3(head: bytes) -> Track | None:
    rate, size, kind, mode = head[4] >> 6, head[4] & 63, head[5], head[6] >> 5
    if rate > 2:
        return None
    low = int.from_bytes(head[6:8], "big") >> 12 - _MORE_BITS.get(mode, 0) & 1
    told = rate << 22 | kind << 14 | mode << 11 | low << 10 | size >> 1 << 5
    channels = _AC3_CHANNELS[mode] + low
    entry = entry_of_plain(b"ac-3", channels, 16, _AC3_RATES[rate], box(b"dac3", told.to_bytes(3, "big")))
    return Track(b"soun", entry, _AC3_RATES[rate], _AC3_SAMPLES)


def _enhanced(head: bytes) -> Track | None:
    rate, blocks, mode, low, kind = head[4] >> 6, head[4] >> 4 & 3, head[4] >> 1 & 7, head[4] & 1, head[5] >> 3
    if rate > 2:
        return None
    size = 2 * ((head[2] & 7) << 8 | head[3]) + 2
    samples = 256 * (1, 2, 3, 6)[blocks]
    kilobits = min(size * 8 * _AC3_RATES[rate] // samples // 1000, 0x1FFF)
    told = kilobits << 27 | rate << 22 | kind << 17 | mode << 9 | low << 8
    entry = entry_of_plain(
        b"ec-3", _AC3_CHANNELS[mode] + low, 16, _AC3_RATES[rate], box(b"dec3", told.to_bytes(5, "big"))
    )
    return Track(b"soun", entry, _AC3_RATES[rate], samples)


def _flac(head: bytes) -> Track | None:
    frame = frame_header(head, 0)
    code, bits = head[2] & 15, _FLAC_BITS[head[3] >> 1 & 7]
    if frame is None or not bits or not 0 < code < len(_FLAC_RATES) + 3:
        return None
    if code < len(_FLAC_RATES):
        rate = _FLAC_RATES[code]
    else:
        value = int.from_bytes(head[frame.length - (2 if code == 12 else 3) : frame.length - 1], "big")
        rate = value * {12: 1000, 13: 1, 14: 10}[code]
    channels = (head[3] >> 4) + 1 if head[3] >> 4 < 8 else 2
    told = struct.pack(">HH6x", frame.samples, frame.samples)
    told += (rate << 44 | (channels - 1) << 41 | (bits - 1) << 36).to_bytes(8, "big") + bytes(16)
    inner = full(b"dfLa", 0, 0, struct.pack(">BBH", 0x80, 0, len(told)), told)
    entry = entry_of_plain(b"fLaC", channels, bits, min(rate, 0xFFFF), inner)
    return Track(b"soun", entry, rate, frame.samples) if rate else None
