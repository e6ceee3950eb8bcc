"""The Recordings pane: find recordings, hear them in place, in key and tempo; take them."""
