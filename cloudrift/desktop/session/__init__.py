"""What the window is about: the document, what is selected, what is heard; and work beside it.

The ground floor of the desktop: it knows Qt's signals and timers, and no widget.
"""
