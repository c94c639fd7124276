"""Figures from arrays: loudness, true peak, levels and envelopes."""
