"""The filter of Windows (public interface), as its administrators can get it."""
