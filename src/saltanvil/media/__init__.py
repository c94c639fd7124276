"""Audio files in and out: decoding, checks, dither, encoding."""
