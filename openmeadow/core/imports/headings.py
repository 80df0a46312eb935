"""Which column of a file is what, told from its heading in several languages, and the addresses from what is in it."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence

from openmeadow.core.addresses.syntax import syntax_problem

_WORDS = {
    "email": "email mail e_mail email_address e_mail_address mail_address emailaddress address subscriber_email "
    "e_mail_adresse email_adresse emailadresse mailadresse mail_adresse adresse_mail adresse_e_mail adresse_email courriel mel "
    "correo correo_electronico direccion_de_correo email_adres e_mailadres emailadres mailadres epost e_post epostadress "
    "e_postadress e_postadresse epostadresse mailadr sahkoposti sahkopostiosoite indirizzo_email indirizzo_e_mail "
    "posta_elettronica endereco_de_email e_mail_cim adres_e_mail",
    "name": "full_name fullname display_name vollstandiger_name nom_complet nombre_completo nome_completo naam namn navn nome",
    "joined_at": "joined signed_up since signup_date sign_up_date joined_on created_at created subscribed_at subscribed_on "
    "date_added optin_date opt_in_date anmeldedatum angemeldet_am date_d_inscription inscrit_le fecha_de_alta inschrijfdatum",
    "labels": "tags tag label etiketten etiquettes etiquetas",
    "list": "lists liste listes lista lijst",
    "language": "locale lang sprache langue idioma taal lingua",
    "country": "country_code land pays pais paese",
    "time_zone": "timezone tz zeitzone fuseau_horaire zona_horaria",
}
_MEANT = {word: known for known, words in _WORDS.items() for word in words.split()}
MOSTLY = 0.8  # of the cells of a column that are addresses


def plain(heading: str) -> str:
    """A heading in lower case, without accents, its parts joined by underscores."""
    bare = "".join(c for c in unicodedata.normalize("NFKD", heading) if not unicodedata.combining(c))
    return re.sub(r"[^a-z0-9]+", "_", bare.strip().lower()).strip("_")


def meant(heading: str) -> str | None:
    """The known word that a heading means in other words; None for none."""
    return _MEANT.get(plain(heading))


def column_of_addresses(rows: Sequence[Sequence[str]], width: int) -> int | None:
    """The column whose cells are mostly addresses, the fullest where there are several; None where none is."""
    best: tuple[int, int] | None = None
    for i in range(width):
        cells = [c for row in rows if i < len(row) and (c := row[i].strip())]
        found = sum("@" in c and syntax_problem(c) is None for c in cells)
        if found and found >= MOSTLY * len(cells) and (best is None or found > best[0]):
            best = (found, i)
    return best[1] if best else None
