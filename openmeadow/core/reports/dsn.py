"""Delivery status notifications (RFC 3464)."""

from __future__ import annotations

import email
import email.message
import email.policy
from dataclasses import dataclass


@dataclass(frozen=True)
class Status:
    """One recipient's fate: ``action`` failed, delayed, delivered, relayed or expanded."""

    address: str
    action: str
    code: str
    diagnostic: str


def read(raw: bytes) -> list[Status]:
    """The recipients of a report; empty when the message is none."""
    message = email.message_from_bytes(raw, policy=email.policy.compat32)
    out = []
    for part in message.walk():
        if part.get_content_type() != "message/delivery-status":
            continue
        groups = part.get_payload()
        for group in groups if isinstance(groups, list) else []:
            if not isinstance(group, email.message.Message):
                continue
            who = group.get("Final-Recipient") or group.get("Original-Recipient")
            if who:
                out.append(
                    Status(
                        str(who).partition(";")[2].strip(),
                        str(group.get("Action", "failed")).strip().lower(),
                        str(group.get("Status", "")).strip(),
                        str(group.get("Diagnostic-Code", "")).partition(";")[2].strip(),
                    )
                )
    return out
