"""Everything that people see: tables, the short page, pictures; numbers and words for people.

Asks no statistical question.
"""
