"""Files of every kind that the sweep finds by content, made by the programs that people make them with (those that are here), and a raw area
that holds them at known places: aligned or not, whole, cut, in pieces, between noise, text and zeros."""
import email.message
import gzip
import io
import os
import random
import shutil
import sqlite3
import struct
import subprocess
import tarfile
import wave
import zipfile

WORDS = [b"gannet", b"ledge", b"count", b"tide", b"lamp", b"keeper", b"skerrow", b"fulmar"]
TOOLS = ("convert", "ffmpeg", "flac", "oggenc", "lame", "7z", "zstd", "xz", "bzip2", "gs")


def have(tool):
    return shutil.which(tool) is not None


def run(*command):
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


def text(r, size):
    lines, length = [], 0
    while length < size:
        line = b" ".join(r.choices(WORDS, k=r.randrange(4, 14)))
        lines.append(line)
        length += len(line) + 1
    return b"\n".join(lines)[:size - 1] + b"\n"


def make_text_kinds(folder, r, i, size):
    at = f"{folder}/{i}"
    def put(ending, data):
        with open(f"{at}.{ending}", "wb") as f:
            f.write(data)
    put("txt", text(r, size // 4))
    put("html", b"<!DOCTYPE html>\n<html><head><title>Ledge %d</title></head>\n<body><p>%s</p></body></html>\n" % (i, text(r, size // 8)))
    put("rtf", b"{\\rtf1\\ansi\\deff0{\\fonttbl{\\f0 Arial;}}{\\info{\\title Tide table %d}{\\creatim\\yr2024\\mo5\\dy%d\\hr8\\min30}}\n" % (i, i + 1)
        + b"".join(b"\\par \\f0\\fs24 " + text(r, 300).replace(b"\n", b" ") + b"\n" for _ in range(size // 400)) + b"}")
    mail = email.message.EmailMessage()
    mail["Received"] = "from lamp.skerrow.example by mail.skerrow.example; Mon, 3 Jun 2024 09:00:00 +0000"
    mail["From"], mail["To"] = "keeper@skerrow.example", "birds@skerrow.example"
    mail["Subject"], mail["Date"] = f"Count of ledge {i}", "Mon, 03 Jun 2024 08:30:0%d +0000" % i
    mail.set_content(text(r, 400).decode())
    mail.add_attachment(r.randbytes(size // 3), maintype="application", subtype="octet-stream", filename="count.bin")
    put("eml", mail.as_bytes())
    put("mbox", b"".join(b"From keeper@skerrow.example Mon Jun  3 08:30:00 2024\n" + b"From: keeper@skerrow.example\nTo: birds@skerrow.example\n"
                         + b"Subject: day %d\nDate: Mon, 03 Jun 2024 08:30:00 +0000\n\n" % k + text(r, 500) + b"\n" for k in range(size // 700)))


def make_archives(folder, r, i, size):
    at = f"{folder}/{i}"
    raw = text(r, size) + r.randbytes(size)
    with open(f"{folder}/raw", "wb") as f:
        f.write(raw)
    with zipfile.ZipFile(f"{at}.zip", "w", zipfile.ZIP_DEFLATED if i % 2 else zipfile.ZIP_STORED) as z:
        z.writestr("ledges/tide.txt", text(r, size))
        for k in range(6):
            z.writestr(f"ledges/{k}.bin", r.randbytes(size // 6))
    with zipfile.ZipFile(f"{at}.docx", "w", zipfile.ZIP_DEFLATED) as z:
        z.writestr("[Content_Types].xml", text(r, 600))
        z.writestr("word/document.xml", text(r, size))
        z.writestr("docProps/core.xml", f"<cp><dc:title>Tern count {i}</dc:title><dcterms:created xsi:type=\"W3CDTF\">2024-05-0{i + 1}T10:20:30Z"
                   "</dcterms:created></cp>")
        z.writestr("word/media/a.bin", r.randbytes(size // 2))
    with open(f"{at}.gz", "wb") as f:
        with gzip.GzipFile(f"ledge{i}.txt", "wb", fileobj=f, mtime=1717400000 + i) as g:
            g.write(raw)
    with tarfile.open(f"{at}.tar", "w", format=[tarfile.GNU_FORMAT, tarfile.PAX_FORMAT][i % 2]) as t:
        for k in range(4):
            info = tarfile.TarInfo(f"ledges/{k}.bin")
            info.size = size // 4
            info.mtime = 1717400000
            t.addfile(info, io.BytesIO(r.randbytes(info.size)))
    for tool, ending in (("xz", "xz"), ("bzip2", "bz2")):
        if have(tool):
            run(tool, "-k", f"{folder}/raw")
            os.rename(f"{folder}/raw.{ending}", f"{at}.{ending}")
    if have("zstd"):
        run("zstd", "-q", f"{folder}/raw", "-o", f"{at}.zst")
    if have("7z"):
        run("7z", "a", f"{at}.7z", f"{folder}/raw")
    os.remove(f"{folder}/raw")


def make_pictures(folder, r, i, size):
    side = {0: 200, 1: 480, 2: 900}[i % 3]
    raw = f"{folder}/raw.miff"
    run("convert", "-size", f"{side}x{side * 3 // 4}", f"plasma:{r.choice(['red', 'teal', 'navy'])}-{r.choice(['white', 'orange'])}", "-seed", str(r.randrange(1000)),
        "-attenuate", "0.3", "+noise", "Gaussian", raw)
    at = f"{folder}/{i}"
    run("convert", raw, "-quality", "88", *(["-sampling-factor", "4:2:0"] if i % 2 else []), f"{at}.jpg")
    run("convert", raw, "-interlace", "JPEG", "-quality", "85", f"{folder}/{i}p.jpg")
    run("convert", raw, f"{at}.png")
    run("convert", raw, f"{at}.gif")
    run("convert", raw, "-compress", "Zip", f"{at}.tif")
    run("convert", raw, f"{at}.bmp")
    if "webp" in subprocess.run(["convert", "-list", "format"], capture_output=True, text=True, check=False).stdout.lower():
        run("convert", raw, f"{at}.webp")
    os.remove(raw)


def make_media(folder, r, i, size):
    at = f"{folder}/{i}"
    with wave.open(f"{at}.wav", "wb") as w:
        w.setnchannels(1)
        w.setsampwidth(2)
        w.setframerate(8000)
        w.writeframes(b"".join(struct.pack("<h", k % 700 * 20 + r.randrange(-900, 900)) for k in range(size)))
    if have("flac"):
        run("flac", "-s", f"{at}.wav", "-o", f"{at}.flac", "-T", f"TITLE=Gannet call {i}")
    if have("oggenc"):
        run("oggenc", "-Q", f"{at}.wav", "-o", f"{at}.ogg")
    if have("lame"):
        run("lame", "--quiet", "--tt", f"Gannet call {i}", f"{at}.wav", f"{at}.mp3")
    if have("ffmpeg"):
        film = ["-f", "lavfi", "-i", f"testsrc=duration={2 * i + 2}:size=320x240:rate=10", "-f", "lavfi", "-i", f"sine=duration={2 * i + 2}"]
        x264 = "libx264" in subprocess.run(["ffmpeg", "-hide_banner", "-encoders"], capture_output=True, text=True, check=False).stdout
        for ending, how in (("mp4", ["-c:v", "libx264" if x264 else "mpeg4"]), ("mov", ["-c:v", "mpeg4"]), ("avi", ["-c:v", "mpeg4"]), ("mkv", ["-c:v", "mpeg4"])):
            run("ffmpeg", "-y", *film, *how, f"{at}.{ending}")


def make_documents(folder, r, i, size):
    at = f"{folder}/{i}"
    base = sqlite3.connect(f"{at}.sqlite")
    base.execute(f"pragma page_size={[4096, 1024][i % 2]}")
    base.execute("create table counts(id integer primary key, ledge text, picture blob)")
    base.execute("create index by_ledge on counts(ledge)")
    for k in range(size // 150):
        base.execute("insert into counts(ledge, picture) values(?, ?)", (text(r, 20 + r.randrange(200)).decode(), r.randbytes(9000 if k % 50 == 0 else 60)))
    base.commit()
    base.close()
    if have("gs") and have("convert"):
        with open(f"{folder}/page.ps", "w", encoding="ascii") as f:
            f.write("%!PS\n/Times-Roman findfont 11 scalefont setfont\n")
            for page in range(max(1, size // 20000)):
                for line in range(50):
                    f.write(f"50 {750 - line * 14} moveto ({text(r, 70).decode().strip()}) show\n")
                f.write("showpage\n")
        run("gs", "-q", "-dBATCH", "-dNOPAUSE", "-sDEVICE=pdfwrite", f"-sOutputFile={at}.pdf", f"{folder}/page.ps")
        os.remove(f"{folder}/page.ps")


def make_files(folder, r, each):
    """{name: bytes}; the ending is the kind, but for a letter behind the number."""
    os.makedirs(folder, exist_ok=True)
    for i in range(each):
        size = [6000, 60_000, 300_000][i % 3]
        make_text_kinds(folder, r, i, size)
        make_archives(folder, r, i, size)
        make_documents(folder, r, i, size)
        make_media(folder, r, i, size)
        if have("convert"):
            make_pictures(folder, r, i, size)
    if each > 1:
        shutil.copy("/bin/ls", f"{folder}/0.elf")
    files = {}
    for name in sorted(os.listdir(folder)):
        with open(f"{folder}/{name}", "rb") as f:
            files[name] = f.read()
    return files


class Area:
    """A raw area that grows; `unit` is what files begin at."""

    def __init__(self, r, unit=4096):
        self.r, self.unit, self.data, self.truth = r, unit, bytearray(), []

    def between(self):
        what = self.r.choice(["noise", "text", "zeros", "zeros"])
        size = self.unit * self.r.randrange(1, 6)
        self.data += self.r.randbytes(size) if what == "noise" else bytes(size) if what == "zeros" else text(self.r, size - self.unit // 2) + bytes(self.unit // 2)
        self.fill()

    def fill(self):
        self.data += bytes(-len(self.data) % self.unit)

    def put(self, name, content, how, shift=0):
        """how: whole, cut, pieces-N."""
        self.between()
        if shift:
            self.data += self.r.randbytes(shift)
        start = len(self.data)
        if how == "cut":
            keep = max(self.unit, len(content) * self.r.randrange(30, 80) // 100 // self.unit * self.unit)
            self.data += content[:keep]
            self.data += self.r.randbytes(self.unit * 2) if self.r.random() < 0.7 else bytes(self.unit * 2)
        elif how.startswith("pieces"):
            count = int(how.split("-")[1])
            borders = sorted(self.r.sample(range(1, (len(content) - 1) // self.unit + 1), count - 1))
            parts = [content[a * self.unit:b * self.unit] for a, b in zip([0] + borders, borders + [len(content)])]
            for number, part in enumerate(parts):
                self.data += part
                if number + 1 < len(parts):
                    gap = self.unit * self.r.randrange(1, 20)
                    self.data += self.r.randbytes(gap) if self.r.random() < 0.5 else text(self.r, gap)
        else:
            self.data += content
        self.fill()
        self.truth.append((start, name, content, how))


def area_of(folder, r, each, hows, unit=4096, shift=False):
    """No content lies there twice: what is cut could be whole by another's."""
    area = Area(r, unit)
    jobs = []
    for how in hows:
        files = make_files(f"{folder}/{how}", r, each)
        jobs += [(name, content, how) for name, content in files.items() if how in ("whole", "cut") or len(content) > unit * 4]
        shutil.rmtree(f"{folder}/{how}")
    jobs = [job for job in jobs if job[2] == "whole" or not job[0].endswith(".elf")]
    r.shuffle(jobs)
    for name, content, how in jobs:
        area.put(name, content, how, r.randrange(1, 511) if shift else 0)
    area.between()
    return area
