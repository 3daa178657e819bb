"""What a fit says about the response, on its own scale."""
