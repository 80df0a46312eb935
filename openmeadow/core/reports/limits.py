"""What a report may be at most; every refusal says its limit."""

MESSAGE_BYTES = 25 * 1024 * 1024
DEEPEST = 50  # parts within parts
ARCHIVE_BYTES = 200 * 1024 * 1024  # unpacked
ARCHIVE_FILES = 1_000
XML_RECORDS = 1_000_000
# mail from outside, which nobody asked for
INTAKE_BYTES = 10 * 1024 * 1024
INTAKE_UNPACKED = 20 * 1024 * 1024
INTAKE_RECIPIENTS = 10  # addresses of ours in one message
INTAKE_PER_MINUTE = 600  # messages of one host
INTAKE_WAITING = 5_000  # messages that may wait to be read
ASIDE_KEPT = 1_000  # messages set aside, the latest
REPORTED_RECIPIENTS = 10_000  # of one report
PARSE_SECONDS = 10.0
PARSE_MEMORY = 1536 * 1024 * 1024
