"""Results as JSON, one module a command, and kept ones read again."""
