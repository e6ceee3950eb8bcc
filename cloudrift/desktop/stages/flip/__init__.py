"""The Flip stage: prints, their pieces above, where they play below, and threads between."""
