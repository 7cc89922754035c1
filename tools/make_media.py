#!/usr/bin/env python3
"""Make pictures, recordings, PDF and rich text by several real producers, small, as test data. Not run in CI.

    tools/make_media.py --to tests/data/media.tar.xz

Needs Pillow and reportlab (pip), and the distribution's ffmpeg, imagemagick, ghostscript and libreoffice-writer. All content is made
up: a slipway drawn with a few lines, a tone, a page about a boat.
"""

from __future__ import annotations

import argparse
import io
import lzma
import subprocess
import tarfile
import tempfile
from pathlib import Path

from PIL import Image, ImageDraw
from reportlab.pdfgen import canvas

PAGE = "<html><body><h1>Kittiwake</h1>" + "<p>The garboard seam was raked out and payed with marine glue.</p>" * 30
PAGE += "</body></html>"


def picture(width: int, height: int, mode: str = "RGB") -> Image.Image:
    """A slipway with a gradient, so that every block has something in it."""
    image = Image.new("RGB", (width, height))
    for y in range(height):
        for x in range(width):
            image.putpixel((x, y), (x * 255 // width, y * 255 // height, (x * 7 + y * 13) % 256))
    draw = ImageDraw.Draw(image)
    draw.line((0, height - 5, width - 9, 9), fill=(20, 40, 60), width=3)
    draw.ellipse((width // 4, height // 4, width // 2, height // 2), outline=(240, 240, 230))
    return image.convert(mode)


def by_pillow(folder: Path) -> None:
    picture(97, 61).save(folder / "plan.png")
    picture(64, 64, "P").save(folder / "plan-palette.png", optimize=True)
    picture(50, 40, "RGBA").save(folder / "plan-alpha.png")
    picture(33, 20, "1").save(folder / "plan-bits.png")
    picture(97, 61).save(folder / "plan.jpg", quality=80)
    picture(97, 61).save(folder / "plan-444.jpg", quality=95, subsampling=0)
    picture(97, 61).save(folder / "plan-progressive.jpg", progressive=True, quality=70)
    picture(97, 61, "L").save(folder / "plan-grey.jpg", optimize=True)
    picture(80, 60).save(folder / "plan-restarts.jpg", restart_marker_blocks=4)
    picture(60, 40, "CMYK").save(folder / "plan-cmyk.jpg")
    picture(60, 40, "P").save(folder / "plan.gif")
    frames = [picture(40, 30, "P"), picture(40, 30, "L").convert("P")]
    frames[0].save(folder / "plan-two.gif", save_all=True, append_images=frames[1:], interlace=0)
    picture(61, 40).save(folder / "plan.pdf")
    picture(61, 40).save(folder / "plan.bmp")
    picture(61, 40).save(folder / "plan.webp")
    picture(61, 40).save(folder / "plan-lossless.webp", lossless=True)
    for packing in ("raw", "tiff_lzw", "tiff_deflate", "packbits", "group4", "jpeg"):
        mode = "1" if packing == "group4" else "RGB"
        picture(90, 64, mode).save(folder / f"scan-{packing}.tiff", compression=None if packing == "raw" else packing)
    picture(40, 30).save(folder / "scan-pages.tiff", save_all=True, append_images=[picture(30, 40)])


def by_reportlab(folder: Path) -> None:
    sheet = canvas.Canvas(str(folder / "form.pdf"))
    sheet.drawString(72, 700, "Berth form of Marlow Quay Boatyard")
    sheet.acroForm.textfield(name="boat", value="Kittiwake", x=72, y=600)
    sheet.showPage()
    sheet.drawString(72, 700, "second page")
    sheet.save()


def run(*command: str) -> None:
    subprocess.run(command, check=True, stdin=subprocess.DEVNULL, capture_output=True, timeout=180)


def by_programs(folder: Path) -> None:
    run("convert", str(folder / "plan.png"), "-interlace", "PNG", str(folder / "plan-interlaced.png"))
    run("convert", str(folder / "plan.png"), "-interlace", "JPEG", str(folder / "plan-im-progressive.jpg"))
    run("convert", str(folder / "plan.png"), str(folder / "plan-layers.psd"))
    run("convert", str(folder / "plan.png"), "-interlace", "GIF", str(folder / "plan-interlaced.gif"))
    source = folder / "survey.html"
    source.write_text(PAGE)
    for form in ("pdf", "rtf"):
        run("soffice", "--headless", "--convert-to", form, "--outdir", str(folder), str(source))
    source.unlink()
    run(
        "gs",
        "-q",
        "-dBATCH",
        "-dNOPAUSE",
        "-sDEVICE=pdfwrite",
        "-dCompatibilityLevel=1.7",
        f"-sOutputFile={folder}/survey-gs.pdf",
        f"{folder}/survey.pdf",
    )
    sound = ["-f", "lavfi", "-i", "sine=frequency=330:duration=1"]
    film = ["-f", "lavfi", "-i", "testsrc=size=128x96:rate=10:duration=2"]
    quiet = ["ffmpeg", "-y", "-loglevel", "error"]
    run(*quiet, *film, *sound, "-c:v", "libx264", "-c:a", "aac", str(folder / "slip.mp4"))
    run(
        *quiet,
        *film,
        *sound,
        "-c:v",
        "libx264",
        "-c:a",
        "aac",
        "-movflags",
        "+faststart",
        str(folder / "slip-front.mp4"),
    )
    run(*quiet, *film, "-c:v", "libx264", "-movflags", "frag_keyframe+empty_moov", str(folder / "slip-fragments.mp4"))
    run(*quiet, *film, *sound, "-c:v", "mjpeg", "-c:a", "pcm_s16le", str(folder / "slip.mov"))
    run(*quiet, *film, "-c:v", "libx265", "-tag:v", "hvc1", str(folder / "slip-hevc.mp4"))
    run(*quiet, *film, *sound, "-c:v", "libx264", str(folder / "slip.mkv"))
    run(*quiet, *film, "-c:v", "libvpx", str(folder / "slip.webm"))
    for form in ("wav", "aiff", "mp3", "ogg", "opus"):
        run(*quiet, *sound, str(folder / f"radio.{form}"))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--to", type=Path, required=True)
    given = parser.parse_args()
    buffer = io.BytesIO()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        by_pillow(folder)
        by_reportlab(folder)
        by_programs(folder)
        with tarfile.open(fileobj=buffer, mode="w") as target:
            for path in sorted(folder.iterdir()):
                info = tarfile.TarInfo(path.name)
                info.size = path.stat().st_size
                target.addfile(info, io.BytesIO(path.read_bytes()))
                print(path.name, info.size)
    given.to.write_bytes(lzma.compress(buffer.getvalue(), preset=9 | lzma.PRESET_EXTREME))
    print(given.to, given.to.stat().st_size, "bytes")


main()
