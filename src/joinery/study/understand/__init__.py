"""Effects on the response, on its own scale."""
