"""Questions asked of a session: arrays and documents in, figures and pictures out."""
