"""What a survey means, by itself and beside a site."""
