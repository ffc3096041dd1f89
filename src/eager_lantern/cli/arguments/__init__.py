"""What the command line may say, and how it is read."""
