"""Row blocks: a fixed partition, what passes over it find, and products of tall blocks."""
