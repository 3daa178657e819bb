"""From a sentence and columns to blocks of the design matrix, remembering what new rows need."""
