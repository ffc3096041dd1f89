"""What devices do with connections, as exact sets."""
