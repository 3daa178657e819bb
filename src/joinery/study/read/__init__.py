"""Reading a fit: estimates, coefficients, the whole model, the equation."""
