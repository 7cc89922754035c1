"""What names say: words of copies and of texts without a name, in the languages that programs speak. Data, in small letters."""

from __future__ import annotations

SAVED = (
    "autosav", "auto-sav", "auto_sav", "autorecover", "autobackup", "recover", "rescue", "unsaved", "crash", "panic", "emergency", "checkpoint",
    "draft", "wiederherst", "entwurf", "récup", "recup", "brouillon", "secours", "guardado automático", "borrador", "salvat", "salvamento",
    "ripristin", "bozza", "rascunho", "herstel", "återst", "utkast", "gendan", "kladde", "gjenopprett", "palaut", "odzysk", "obnov",
    "восстанов", "черновик", "відновл", "恢复", "復元", "回復", "复原", "복구", "kurtar", "taslak", "helyreáll", "otomatik", "autoguard",
)  # fmt: skip
"""Of copies that hold newer work: autosaves, drafts, what is left of a crash."""
SUBJECTS = frozenset(("recover", "rescue", "crash", "panic", "emergency", "checkpoint", "draft"))
"""Those of them that programs are written about."""
KEPT = (
    "backup", "back-up", "back_up", "bak", "sicherung", "sauvegarde", "respaldo", "salvaguard", "cópia de segurança", "copia de seguridad",
    "copia di sicurezza", "reservekop", "резерв", "备份", "備份", "バックアップ", "백업", "yedek", "záloh", "zaloh", "varmuuskop", "säkerhetskop",
    "sikkerhedskop", "sikkerhetskop", "biztonsági", "kopia zapasowa", "kopii zapasow", "αντίγραφο", "גיבוי", "نسخة احتياط",
)  # fmt: skip
"""Of copies that hold earlier work."""
SHORT_SAVED = (
    "swp", "save", "sav", "asv", "aut", "dead", "rec",
)  # fmt: skip
SHORT_KEPT = (
    "orig", "old", "prev", "previous", "bk", "bck", "bkp", "bup", "history", "hist",
)  # fmt: skip
SHORT_PASSING = (
    "tmp", "temp", "part", "new", "swap", "sync", "upload", "incomplete", "partial", "writing", "saving",
)  # fmt: skip
"""Short ones of the same, and of files that were being written: only as what stands behind a whole name."""
NOT_COPIES = (
    ".asc", ".sig", ".gpg", ".pem", ".sha1", ".sha256", ".sha512", ".md5", ".sum", ".torrent", ".gz", ".bz2", ".xz", ".zst", ".lz4", ".7z",
    ".zip", ".rar", ".br", ".z", ".map", ".min", ".d", ".o", ".lo", ".obj", ".pyc", ".class", ".lock", ".license", ".import", ".meta", ".xmp",
    ".url", ".lnk", ".desktop", ".html", ".htm", ".pdf", ".json", ".xml", ".yaml", ".yml", ".toml", ".ini", ".cfg", ".conf", ".in", ".am",
    ".ac", ".m4", ".cmake", ".log", ".aux", ".toc", ".out", ".idx", ".ind", ".bbl", ".blg", ".lof", ".lot", ".nfo", ".cue", ".srt", ".sub",
    ".vtt", ".po", ".pot", ".mo", ".ts", ".d.ts", ".j2", ".tmpl", ".tpl", ".template", ".example", ".sample", ".dist", ".default", ".rej",
    ".patch", ".diff", ".thm", ".pp3", ".dop",
)  # fmt: skip
"""What stands behind a whole name where a file was made from another, or tells of it: no earlier or later version of it."""
EVERYWHERE = frozenset((
    "__init__.py", "__main__.py", "build.xml", "cargo.toml", "changelog.md", "cmakelists.txt", "config.json", "config.xml", "conftest.py",
    "content.xml", "desktop.ini", "index.htm", "index.html", "index.md", "license.md", "license.txt", "main.c", "main.py", "manifest.json",
    "manifest.xml", "meta.xml", "mimetype", "package-lock.json", "package.json", "pom.xml", "pyproject.toml", "readme", "readme.md",
    "readme.rst", "readme.txt", "settings.json", "setup.py", "style.css", "thumbs.db", "tsconfig.json",
))  # fmt: skip
"""Names that packages and projects have in every folder."""
UNTITLED = (
    # English, German, French, Spanish, Italian, Portuguese, Dutch
    "untitled", "unnamed", "noname", "no name", "new document", "new file", "new text document", "unsaved document", "document", "scratch",
    "unbenannt", "ohne titel", "namenlos", "neues dokument", "neue datei", "dokument", "sans titre", "sans nom", "nouveau document",
    "nouveau fichier", "sin título", "sin titulo", "sin nombre", "documento sin título", "nuevo documento", "documento", "senza titolo",
    "senza nome", "nuovo documento", "sem título", "sem titulo", "sem nome", "novo documento", "naamloos", "zonder titel", "nieuw document",
    # Swedish, Danish, Norwegian, Finnish, Icelandic
    "namnlös", "namnlos", "utan titel", "nytt dokument", "ikke navngivet", "unavngivet", "uden titel", "nyt dokument", "uten tittel", "uten navn",
    "namnlaust", "nimetön", "nimeton", "uusi asiakirja", "asiakirja", "ónefnt", "án titils",
    # Polish, Czech, Slovak, Hungarian, Slovene, Croatian, Serbian, Romanian, Bulgarian
    "bez tytułu", "bez tytulu", "bez nazwy", "nowy dokument", "bez názvu", "bez nazvu", "nepojmenovaný", "nový dokument", "nepomenovaný",
    "névtelen", "nevtelen", "cím nélkül", "új dokumentum", "dokumentum", "neimenovano", "brez naslova", "nov dokument", "bez naslova",
    "neimenovan", "bez imena", "без наслова", "неименовано", "fără titlu", "fara titlu", "fără nume", "без заглавие", "безимен", "без име",
    # Russian, Ukrainian, Belarusian, Greek, Turkish
    "без имени", "без названия", "безымянный", "новый документ", "документ", "без назви", "без імені", "новий документ", "без назвы",
    "χωρίς τίτλο", "ανώνυμο", "νέο έγγραφο", "adsız", "adsiz", "isimsiz", "başlıksız", "yeni belge", "belge",
    # Estonian, Latvian, Lithuanian, Catalan, Basque, Galician, Irish, Welsh
    "nimetu", "pealkirjata", "bez nosaukuma", "nenosaukts", "be pavadinimo", "bevardis", "sense títol", "sense nom", "izengabea", "titulurik gabe",
    "sen título", "gan teideal", "di-deitl",
    # Hebrew, Arabic, Persian, Hindi, Thai, Vietnamese, Indonesian, Chinese, Japanese, Korean
    "ללא שם", "ללא כותרת", "بدون عنوان", "بلا عنوان", "بدون اسم", "بی‌نام", "بی نام", "शीर्षकहीन", "अनामांकित", "ไม่มีชื่อ", "chưa đặt tên",
    "không có tiêu đề", "tanpa judul", "tanpa nama", "无标题", "未命名", "未命名文档", "新建文档", "無標題", "未命名文件", "無題", "名称未設定", "タイトルなし",
    "新規ドキュメント", "문서", "제목 없음", "이름 없음", "무제",
)  # fmt: skip
"""What programs call a text that was never saved."""
PLAIN_UNTITLED = frozenset(
    ("document", "documento", "dokument", "dokumentum", "asiakirja", "belge", "документ", "문서", "scratch", "new file", "neue datei")
)  # fmt: skip
"""Those of them that other files are called, too."""
