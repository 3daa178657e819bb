"""The page to send: one HTML file, from sections of text, tables, pictures and code."""
