"""Judgement: where a song's first sheet starts from, and why."""
