"""The demo sessions: invented music from the harbour town of Kelpwick, made by seeded code."""
