"""What the looks at rights have in common, over whichever protocol."""

NO_FILE = "there was no file to try it on"


OUTSIDE = ("/etc", "/Windows", "/root", "/home")
