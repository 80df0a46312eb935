"""What providers of the mail world send back to a return path: bounces and complaint reports."""

from __future__ import annotations


def bounce(return_path: str, to: str, message_id: str) -> str:
    """A delivery status notification (RFC 3464) about a mailbox that is not there."""
    host = to.rpartition("@")[2]
    return (
        f"From: Mail Delivery <postmaster@{host}>\r\nTo: {return_path}\r\nSubject: Your message could not be "
        f"delivered\r\nMIME-Version: 1.0\r\nContent-Type: multipart/report; report-type=delivery-status; "
        f'boundary="b1"\r\n\r\n--b1\r\nContent-Type: text/plain\r\n\r\nThe mailbox {to} does not exist.\r\n'
        f"--b1\r\nContent-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; mx.{host}\r\n\r\n"
        f"Final-Recipient: rfc822; {to}\r\nAction: failed\r\nStatus: 5.1.1\r\n"
        f"Diagnostic-Code: smtp; 550 5.1.1 no such user here\r\n\r\n--b1\r\nContent-Type: "
        f"text/rfc822-headers\r\n\r\nMessage-ID: {message_id}\r\n\r\n--b1--\r\n"
    )


def complaint(return_path: str, to: str, message_id: str, sender: str) -> str:
    """A complaint report (RFC 5965): somebody pressed the provider's button for unwanted mail."""
    host = to.rpartition("@")[2]
    return (
        f"From: Complaints <complaints@{host}>\r\nTo: {return_path}\r\nSubject: Complaint about your message\r\n"
        f"MIME-Version: 1.0\r\nContent-Type: multipart/report; report-type=feedback-report; "
        f'boundary="c1"\r\n\r\n--c1\r\nContent-Type: text/plain\r\n\r\nA reader at {host} does not want this mail.\r\n'
        f"--c1\r\nContent-Type: message/feedback-report\r\n\r\nFeedback-Type: abuse\r\nUser-Agent: {host}/1.0\r\n"
        f"Version: 1\r\nOriginal-Mail-From: <{return_path}>\r\nOriginal-Rcpt-To: <{to}>\r\n\r\n"
        f"--c1\r\nContent-Type: text/rfc822-headers\r\n\r\nFrom: {sender}\r\nTo: {to}\r\n"
        f"Message-ID: {message_id}\r\n\r\n--c1--\r\n"
    )
