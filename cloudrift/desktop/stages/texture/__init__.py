"""The Texture stage: the descent from bare to treated."""
