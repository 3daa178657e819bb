"""Terms and models tested against one another, and chosen."""
