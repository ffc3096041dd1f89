"""Filters of cloud providers (public interface), as their own command lines print them."""
