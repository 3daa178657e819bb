"""Pictures from arrays: axes, marks and labels, without statistics."""
