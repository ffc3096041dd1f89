"""A site of network namespaces and real packet filters."""
