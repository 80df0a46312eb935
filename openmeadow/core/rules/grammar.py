"""The grammar of rules. Each alternative of ``clause`` is one clause; docs/rules.md shows them by example."""

GRAMMAR = r"""
start: expr
?expr: term | all_of | any_of
all_of: term (_AND term)+
any_of: term (_OR term)+
?term: _NOT "(" expr ")" -> negated
     | _NOT clause -> negated
     | "(" expr ")"
     | clause
?clause: _PERMITTED _FOR QUOTED                              -> permitted
      | _OPENED [ANYONE] bound [_OF QUOTED] [window]         -> opened
      | _CLICKED bound [_OF QUOTED] [window]                 -> clicked
      | _RECEIVED bound [_OF QUOTED] [window]                -> received
      | _ENGAGED bound [_OF QUOTED] [window]                 -> engaged
      | _REPLIED bound [_OF QUOTED] [window]                 -> replied
      | _BOOKED bound [_OF QUOTED] [window]                  -> booked
      | _BOOKED _WORTH bound [_OF QUOTED] [window]           -> worth
      | _ENGAGED _WITHIN span _OF _JOINING                   -> engaged_within
      | _IGNORED QUOTED                                      -> ignored
      | _IGNORED bound _IN _A _ROW                           -> ignored_in_a_row
      | _NEVER _ENGAGED                                      -> never_engaged
      | _NOT _ENGAGED window                                 -> not_engaged
      | _LAST _ENGAGED AGO_SIDE span _AGO                    -> last_engaged
      | _JOINED AGO_SIDE span _AGO                           -> joined
      | _BAND _IS BAND_LIST                                  -> band
      | _SCORE bound                                         -> score
      | _LIKELY _ACTIVE bound _PERCENT                       -> likely_active
      | _IN _LIST QUOTED                                     -> in_list
      | _HAS _LABEL QUOTED                                   -> has_label
      | _IN _SEGMENT QUOTED                                  -> in_segment
      | _IN _SEGMENT QUOTED _AS _FROZEN _ON DAY              -> in_snapshot
      | _CONSENT _TO QUOTED [CHANNEL] _IS STATE              -> consent
      | _CONSENT _TO QUOTED _GIVEN AGO_SIDE span _AGO        -> consent_age
      | _CONSENT _TO QUOTED _FROM _SOURCE QUOTED             -> consent_from
      | _ADDRESS _IS VERDICTS                                -> address
      | _LANGUAGE _IS QUOTED                                 -> language
      | _COUNTRY _IS QUOTED                                  -> country
      | _SUPPRESSED [_FOR QUOTED]                            -> suppressed
      | _SOFT _BOUNCED bound _IN _A _ROW                     -> soft_bounced
      | _IN _SEQUENCE QUOTED [_AT QUOTED]                    -> in_sequence
      | _FINISHED _SEQUENCE QUOTED [AGO_SIDE span _AGO]      -> finished_sequence
      | _FIELD QUOTED _IS QUOTED                             -> field_is
      | _FIELD QUOTED _IS _NOT QUOTED                        -> field_is_not
      | _FIELD QUOTED _CONTAINS QUOTED                       -> field_contains
      | _FIELD QUOTED _IS _EMPTY                             -> field_empty
      | _FIELD QUOTED _IS SIDE SIGNED                        -> field_number
      | _FIELD QUOTED _IS DAY_SIDE DAY                       -> field_day
      | _FIELD QUOTED _IS _ONE _OF "(" QUOTED ("," QUOTED)* ")" -> field_one_of
      | _FIELD QUOTED _FALLS _WITHIN span                    -> field_falls
      | _PROVIDER _IS QUOTED                                 -> provider
      | _SOURCE _IS QUOTED                                   -> source
      | _REJOINED                                            -> rejoined
bound: SIDE NUMBER
window: _IN span
span: NUMBER UNIT

_AND: /and\b/i
_OR: /or\b/i
_NOT: /not\b/i
_PERMITTED: /permitted\b/i
_FOR: /for\b/i
_OPENED: /opened\b/i
ANYONE: /by\s+anyone\b/i
_CLICKED: /clicked\b/i
_RECEIVED: /received\b/i
_ENGAGED: /engaged\b/i
_REPLIED: /replied\b/i
_BOOKED: /booked\b/i
_WORTH: /worth\b/i
_OF: /of\b/i
_WITHIN: /within\b/i
_JOINING: /joining\b/i
_IGNORED: /ignored\b/i
_NEVER: /never\b/i
_LAST: /last\b/i
_AGO: /ago\b/i
_JOINED: /joined\b/i
_BAND: /band\b/i
_IS: /is\b/i
_SCORE: /score\b/i
_LIKELY: /likely\b/i
_ACTIVE: /active\b/i
_PERCENT: "%"
_IN: /in\b/i
_LIST: /list\b/i
_HAS: /has\b/i
_LABEL: /label\b/i
_SEGMENT: /segment\b/i
_CONSENT: /consent\b/i
_TO: /to\b/i
_GIVEN: /given\b/i
_FROM: /from\b/i
_SOURCE: /source\b/i
CHANNEL: /by\s+(email|post|phone)\b/i
_ADDRESS: /address\b/i
_LANGUAGE: /language\b/i
_COUNTRY: /country\b/i
_SUPPRESSED: /suppressed\b/i
_SOFT: /soft\b/i
_BOUNCED: /bounced\b/i
_A: /a\b/i
_ROW: /row\b/i
_AT: /at\b(?!\s+(least|most)\b)/i
_FINISHED: /finished\b/i
_SEQUENCE: /sequence\b/i
_FIELD: /field\b/i
_CONTAINS: /contains\b/i
_EMPTY: /empty\b/i
_ONE: /one\b/i
_FALLS: /falls\b/i
_PROVIDER: /provider\b/i
_REJOINED: /rejoined\b/i
_AS: /as\b/i
_FROZEN: /frozen\b/i
_ON: /on\b/i
VERDICTS: /_VERDICT(\s+or\s+_VERDICT)*/i
UNIT: /(days?|weeks?|months?|years?)\b/i
AGO_SIDE: /(more|less)\s+than\b/i
DAY_SIDE: /(before|after)\b/i
SIDE: /(at\s+least|at\s+most|more\s+than|fewer\s+than)\b/i
STATE: /(given|withdrawn|pending|none)\b/i
BAND_LIST: /(Strong|Steady|Fading|Inactive|Unproven|Masked)\b(\s+or\s+(Strong|Steady|Fading|Inactive|Unproven|Masked)\b)*/i
DAY: /\d{4}-\d{2}-\d{2}/
NUMBER: /\d+(\.\d+)?/
SIGNED: /-?\d+(\.\d+)?/
QUOTED: /"([^"]|"")*"/
%import common.WS
%ignore WS
""".replace("_VERDICT", r"(deliverable|risky|undeliverable|unknown|not\s+checked)\b")

# what to call a terminal where it would fit
NAMES = {
    "QUOTED": "a name in quotes",
    "NUMBER": "a number",
    "SIGNED": "a number",
    "DAY": "a day such as 2026-03-12",
    "UNIT": "days, weeks, months or years",
    "SIDE": "at least, at most, more than or fewer than",
    "ANYONE": "by anyone",
    "AGO_SIDE": "more than or less than",
    "DAY_SIDE": "before or after",
    "STATE": "given, withdrawn, pending or none",
    "CHANNEL": "by email, by post or by phone",
    "VERDICTS": "deliverable, risky, undeliverable, unknown or not checked",
    "BAND_LIST": "Strong, Steady, Fading, Inactive, Unproven or Masked",
    "LPAR": "(",
    "RPAR": ")",
    "COMMA": "a comma",
    "_PERCENT": "%",
    "$END": "the end of the rule",
}

# the first words of clauses: where all of them fit, a mistake gives an example instead of the list
CLAUSE_STARTS = frozenset({"_PERMITTED", "_OPENED", "_BAND", "_REJOINED"})
EXAMPLE = "a condition, such as opened at least 1 in 90 days"
