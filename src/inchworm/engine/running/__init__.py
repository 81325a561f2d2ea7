"""Runs: executing what is live, with limits, and recording how it went."""
