"""What a report may be at most; every refusal says its limit."""

MESSAGE_BYTES = 25 * 1024 * 1024
DEEPEST = 50  # parts within parts
ARCHIVE_BYTES = 200 * 1024 * 1024  # unpacked
ARCHIVE_FILES = 1_000
XML_RECORDS = 1_000_000
