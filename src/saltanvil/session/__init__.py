"""The document: strips, paths and the edits that change them."""
