"""The document as values: a loop and all that it holds, checked where it is made; history."""
