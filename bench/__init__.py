"""Benchmarks beside their peers, runnable by anyone: ``make bench``."""
