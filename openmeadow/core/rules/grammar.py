"""The grammar of rules. Each alternative of ``clause`` is one clause; docs/rules.md shows them by example."""

GRAMMAR = r"""
start: expr
?expr: term | all_of | any_of
all_of: term (_AND term)+
any_of: term (_OR term)+
?term: _NOT "(" expr ")" -> negated
     | "(" expr ")"
     | clause
?clause: _PERMITTED _FOR QUOTED                          -> permitted
      | _OPENED [ANYONE] bound [_OF QUOTED] [window]     -> opened
      | _CLICKED bound [_OF QUOTED] [window]             -> clicked
      | _GOT bound [_OF QUOTED] [window]                 -> got
      | _REPLIED bound [window]                          -> replied
      | _BOOKED bound [window]                           -> booked
      | _BOOKED _WORTH bound [window]                    -> worth
      | _LEFT QUOTED _UNANSWERED                         -> left
      | _UNANSWERED bound                                -> unanswered
      | _NEVER _ANSWERED                                 -> never_answered
      | _NO _ANSWER window                               -> no_answer
      | _LAST _ANSWER AGO_SIDE days _AGO                 -> last_answer
      | _JOINED AGO_SIDE days _AGO                       -> joined
      | _BAND _IS BAND_LIST                              -> band
      | _SCORE bound                                     -> score
      | _IN _LIST QUOTED                                 -> in_list
      | _HAS _LABEL QUOTED                               -> has_label
      | _IN _SEGMENT QUOTED                              -> in_segment
      | _IN _SEGMENT QUOTED _AS _FROZEN _ON DAY          -> in_frozen
      | _CONSENT _TO QUOTED CHANNEL _IS STATE            -> consent
      | _CONSENT _TO QUOTED _GIVEN AGO_SIDE days _AGO    -> consent_age
      | _CONSENT _TO QUOTED _CAME _FROM QUOTED           -> consent_from
      | _ADDRESS _IS VERDICTS                            -> address
      | _LANGUAGE _IS QUOTED                             -> language
      | _COUNTRY _IS QUOTED                              -> country
      | _SUPPRESSED [_FOR QUOTED]                        -> suppressed
      | _SOFT _BOUNCED bound _IN _A _ROW                 -> soft_bounced
      | _INSIDE _SEQUENCE QUOTED [_AT QUOTED]            -> inside_sequence
      | _FINISHED _SEQUENCE QUOTED [AGO_SIDE days _AGO]  -> finished_sequence
      | _FIELD QUOTED _IS QUOTED                         -> field
      | _PROVIDER _IS QUOTED                             -> provider
      | _CAME _BY QUOTED                                 -> came_by
      | _REJOINED                                        -> rejoined
bound: SIDE NUMBER
window: _IN days
days: NUMBER _DAYS

_AND: /and\b/i
_OR: /or\b/i
_NOT: /not\b/i
_PERMITTED: /permitted\b/i
_FOR: /for\b/i
_OPENED: /opened\b/i
ANYONE: /by\s+anyone\b/i
_CLICKED: /clicked\b/i
_GOT: /got\b/i
_REPLIED: /replied\b/i
_BOOKED: /booked\b/i
_WORTH: /worth\b/i
_OF: /of\b/i
_LEFT: /left\b/i
_UNANSWERED: /unanswered\b/i
_NEVER: /never\b/i
_ANSWERED: /answered\b/i
_NO: /no\b/i
_ANSWER: /answer\b/i
_LAST: /last\b/i
_AGO: /ago\b/i
_JOINED: /joined\b/i
_BAND: /band\b/i
_IS: /is\b/i
_SCORE: /score\b/i
_IN: /in\b/i
_LIST: /list\b/i
_HAS: /has\b/i
_LABEL: /label\b/i
_SEGMENT: /segment\b/i
_CONSENT: /consent\b/i
_TO: /to\b/i
_GIVEN: /given\b/i
_FROM: /from\b/i
CHANNEL: /by\s+(email|post|phone)\b/i
_ADDRESS: /address\b/i
_LANGUAGE: /language\b/i
_COUNTRY: /country\b/i
_SUPPRESSED: /suppressed\b/i
_SOFT: /soft\b/i
_BOUNCED: /bounced\b/i
_A: /a\b/i
_ROW: /row\b/i
_INSIDE: /inside\b/i
_AT: /at\b(?!\s+(least|most)\b)/i
_FINISHED: /finished\b/i
_SEQUENCE: /sequence\b/i
VERDICTS: /(good|risky|bad|unknown)\b(\s+or\s+(good|risky|bad|unknown)\b)*/i
_FIELD: /field\b/i
_PROVIDER: /provider\b/i
_CAME: /came\b/i
_BY: /by\b/i
_REJOINED: /rejoined\b/i
_DAYS: /days?\b/i
AGO_SIDE: /(more|less)\s+than\b/i
SIDE: /at\s+(least|most)\b/i
STATE: /(given|withdrawn|awaiting|none)\b/i
BAND_LIST: /(Strong|Steady|Fading|Silent|Unproven|Veiled)\b(\s+or\s+(Strong|Steady|Fading|Silent|Unproven|Veiled)\b)*/i
_AS: /as\b/i
_FROZEN: /frozen\b/i
_ON: /on\b/i
DAY: /\d{4}-\d{2}-\d{2}/
NUMBER: /\d+(\.\d+)?/
QUOTED: /"([^"]|"")*"/
%import common.WS
%ignore WS
"""

# what to call a terminal when it would have fitted
NAMES = {
    "QUOTED": "a name in quotes",
    "NUMBER": "a number",
    "DAY": "a day such as 2026-03-12",
    "SIDE": "at least or at most",
    "ANYONE": "by anyone",
    "AGO_SIDE": "more than or less than",
    "STATE": "given, withdrawn, awaiting or none",
    "CHANNEL": "by email, by post or by phone",
    "VERDICTS": "good, risky, bad or unknown",
    "BAND_LIST": "Strong, Steady, Fading, Silent, Unproven or Veiled",
    "LPAR": "(",
    "RPAR": ")",
    "$END": "the end of the rule",
    "_DAYS": "days",
}
