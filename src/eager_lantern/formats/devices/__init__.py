"""Settings of real devices and servers: one module a format."""
