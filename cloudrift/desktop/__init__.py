"""The window. The only floor that knows Qt; nothing above it decides anything about music."""
