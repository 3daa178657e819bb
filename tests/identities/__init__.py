"""What must never change an answer: random fits (tables), every public question (questions), ten identities."""
