"""The Microphone pane: takes over the loop or a click, kept, heard in place, and chosen."""
