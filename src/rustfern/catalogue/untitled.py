"""What programs call a text that was never saved, in the languages that they speak. Data, in small letters."""

from __future__ import annotations

import os
import re

_WORDS = (
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
_UNTITLED = re.compile(
    rf"(?:{'|'.join(map(re.escape, sorted(_WORDS, key=len, reverse=True)))})(?:[\s_\-.(]*\d{{1,4}}\)?)?"
)


def is_untitled(name: str) -> bool:
    """Whether a file name, with or without its ending, is what a program calls a text without a name: "Untitled-1", "Unbenannt 2.odt"."""
    folded = name.casefold().strip("#~. ")
    return any(_UNTITLED.fullmatch(each) for each in {folded, os.path.splitext(folded)[0]})
