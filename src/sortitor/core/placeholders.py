"""Words that people write where a number is missing, in the languages of the trade."""

from __future__ import annotations

import re
import unicodedata

_WORDS = """
    n a; na; none; null; nil; nan; tbc; tbd; tba; tbs; unknown; unkn; undefined; missing; pending
    not available; not applicable; not specified; not known; not provided; not present; not yet
    no serial; no serial number; no imei; no number; without; empty; blank; default; default string
    to be filled; to be filled by o e m; to be announced; to be confirmed; to be determined
    to follow; follows; later; open; sample; example; test; dummy; demo; various; several; see below
    see above; see label; see box; see note; see attachment; see list; system serial number; invalid
    serial; serialnumber; serial number; imei; number; ditto; same; same as above; error; true
    false
    unbekannt; k a; ka; keine angabe; keine angaben; keine; kein; ohne; fehlt; fehlend; folgt; leer
    wird nachgereicht; nachgereicht; nicht vorhanden; nicht verfugbar; nicht bekannt; n v; nv; offen
    entfallt; ausstehend; siehe oben; siehe unten; siehe karton; siehe liste; siehe aufkleber
    muster
    dito; s o; s u; verschieden; diverse; wahr; falsch; nicht zutreffend; unklar; platzhalter
    steht aus
    inconnu; inconnue; aucun; aucune; sans; vide; manquant; a completer; a venir; non disponible
    non renseigne; pas disponible; neant; nc; n c; non communique; voir; voir ci dessous; vrai; faux
    non applicable; idem; a confirmer; a definir; absent; en attente; indisponible; non connu
    desconocido; desconocida; ninguno; ninguna; sin; sin serie; sin numero; vacio; falta; pendiente
    no disponible; no aplica; s n; s d; sin datos; por confirmar; por definir; no consta; ver abajo
    verdadero; falso; a determinar; no tiene; no hay; sin informacion; sin dato
    sconosciuto; sconosciuta; ignoto; nessuno; nessuna; senza; vuoto; mancante; da definire
    da completare; non disponibile; non noto; n d; nd; assente; da confermare; in attesa; vedi; vero
    non pervenuto; n p; segue; non applicabile; da verificare; non presente
    nieznany; nieznana; nieznane; brak; brak danych; brak numeru; nie dotyczy; puste; pusty; bez
    do uzupelnienia
    niedostepny; niedostepne; patrz nizej; b d; bd; nie podano; do ustalenia; prawda; falsz; zaden
    w trakcie; uzupelnic; jak wyzej; j w; jw
    bilinmiyor; yok; bos; eksik; belirsiz; mevcut degil; girilmemis; daha sonra; sonra; bekleniyor
    dogru; yanlis; uygulanamaz; bilinmeyen; tanimsiz; belirtilmemis; hic; ayni
    onbekend; geen; leeg; ontbreekt; niet beschikbaar; n v t; nvt; volgt; nader te bepalen; zonder
    niet bekend; waar; onwaar; zie onder; zie doos; n b; nb; ntb; n t b; nog niet bekend; idem
    不明; なし; 無し; 無; 未定; 未記入; 未登録; 該当なし; 空白; 空; 未; 後日; 別途; 同上
    未確認; 不詳; 未着
    غير معروف; غير متوفر; لا يوجد; مجهول; فارغ; بدون; غير متاح; لاحقا; سيتم لاحقا; لا شيء; غير محدد
    неизвестно; нет; отсутствует; нет данных; н д; пусто; okänd; saknas; ukendt; mangler; ukjent
    desconhecido; nenhum; sem; vazio; falta; nao disponivel; neznamy; neznámé; chybi; ismeretlen
    nincs
    necunoscut; lipsa; fara; άγνωστο; κενό; tuntematon; puuttuu; ei ole; nepoznato; nema
    123456789; 1234567890; 123456789012345; 12345678; 0123456789; 987654321; abc123; abcdef; test123
    xxx; asdf; qwerty; lorem ipsum
"""


_NOT_PLAIN = re.compile(r"[^a-z0-9]")
#: No placeholder is longer; what is, is compared by its beginning.
_LONGEST = 200


def key(text: str) -> str:
    """Letters and digits of a text, without accents and case: how placeholders are compared."""
    plain = (
        unicodedata.normalize("NFKD", text[:_LONGEST])
        .casefold()
        .replace("ı", "i")
        .replace("ł", "l")
    )
    return "".join(re.findall(r"[^\W_]", plain))


KEYS = frozenset(key(word) for word in re.split(r"[;\n]", _WORDS) if key(word))
