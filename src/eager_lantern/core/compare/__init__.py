"""Prediction beside what was observed."""
