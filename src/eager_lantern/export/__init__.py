"""What other programs and people take away: rule files, pages, tables."""
