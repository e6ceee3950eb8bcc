"""The open document, its file, and what is selected in it."""
