"""Results as JSON (docs/results.md), one module a command, each imported by itself. The types that write a result are
those that its published schema is made from (``schema --of``) and, where it is read again, those that read it."""
