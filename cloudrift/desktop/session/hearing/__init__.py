"""What is heard of the open document: rendered, compared, previewed, played."""
