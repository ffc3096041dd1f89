"""What is wrong or unwise in a site, with its place and its cure."""
