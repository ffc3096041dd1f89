"""The pages to work from."""
