"""What every visit needs, whatever protocol it speaks."""
