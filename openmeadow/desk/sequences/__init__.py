"""Sequences: written, started, moved on, measured, walked through."""
