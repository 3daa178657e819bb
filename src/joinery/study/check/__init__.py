"""What a model takes for granted, one question after another."""
