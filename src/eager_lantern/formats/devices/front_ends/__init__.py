"""The two common front ends to the Linux packet filter (public interface), as they print their own state."""
