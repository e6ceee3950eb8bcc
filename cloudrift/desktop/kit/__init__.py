"""What views are built of: fields, tiles, lanes, buttons, colours and letters, questions."""
