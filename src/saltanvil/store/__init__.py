"""All data in one SQLite file; plain SQL beside the function that runs it."""
