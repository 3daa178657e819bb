"""One module a question: what a fit is asked, and the Table or text that answers."""
