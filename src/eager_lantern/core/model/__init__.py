"""The site as its file describes it, what has to fit in it, and changes of it."""
