"""What each picture of a fit shows."""
