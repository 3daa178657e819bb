"""Double-double arithmetic and exact products: 32 digits from pairs of doubles.

A pair (high, low) stands for the unevaluated sum of two doubles (Dekker 1971). Products of whole
blocks are made exact by cutting columns into slices so short that BLAS adds their products without
rounding (Ogita, Rump & Oishi 2005). Everything works on arrays of any shape, elementwise."""

from __future__ import annotations

import numpy as np
from scipy.linalg import lapack

Pair = tuple[np.ndarray, np.ndarray]
SPLITTER = 134217729.0  # 2²⁷ + 1


def two_sum(a: np.ndarray, b: np.ndarray) -> Pair:
    """Return a + b exactly: the rounded sum and its error (Knuth 1969)."""
    s = a + b
    # t is what b became in the sum: what either operand lost to it is the error
    t = s - a
    return s, (a - (s - t)) + (b - t)


def quick_two_sum(a: np.ndarray, b: np.ndarray) -> Pair:
    """Return a + b exactly, where |a| ≥ |b| (Dekker 1971)."""
    s = a + b
    return s, b - (s - a)


def two_product(a: np.ndarray, b: np.ndarray) -> Pair:
    """Return a · b exactly: the rounded product and its error (Veltkamp's split, Dekker 1971)."""
    # both factors in halves of 26 bits, whose four products are exact
    p = a * b
    t = SPLITTER * a
    a1 = t - (t - a)
    a2 = a - a1
    t = SPLITTER * b
    b1 = t - (t - b)
    b2 = b - b1
    return p, ((a1 * b1 - p) + a1 * b2 + a2 * b1) + a2 * b2


def add(x: Pair, y: Pair) -> Pair:
    """Return x + y for pairs."""
    # the low parts are added as pairs too: their plain sum would cost the last bits
    s, e = two_sum(x[0], y[0])
    t, f = two_sum(x[1], y[1])
    s, e = quick_two_sum(s, e + t)
    return quick_two_sum(s, e + f)


def negative(x: Pair) -> Pair:
    """Return −x."""
    return -x[0], -x[1]


def multiply(x: Pair, y: Pair) -> Pair:
    """Return x · y for pairs."""
    p, e = two_product(x[0], y[0])
    return quick_two_sum(p, e + (x[0] * y[1] + x[1] * y[0]))


def divide(x: Pair, y: Pair) -> Pair:
    """Return x / y for pairs."""
    first = x[0] / y[0]
    # long division: each quotient of doubles adds 53 bits to what is left
    rest = add(x, negative(multiply(y, (first, np.zeros_like(first)))))
    second = rest[0] / y[0]
    rest = add(rest, negative(multiply(y, (second, np.zeros_like(second)))))
    a, b = quick_two_sum(first, second)
    return add((a, b), (rest[0] / y[0], np.zeros_like(first)))


def square_root(x: Pair) -> Pair:
    """Return √x for a pair that is not negative."""
    root = np.sqrt(x[0])
    # one step of Newton from the double's root doubles its digits
    p, e = two_product(root, root)
    rest = add(x, (-p, -e))
    return quick_two_sum(root, rest[0] / (2 * root))


def total(x: Pair) -> Pair:
    """Return the sum of pairs along the first axis."""
    high, low = x
    while len(high) > 1:
        # pairwise: log₂ of so many additions deep, and each over whole arrays
        half = len(high) // 2
        rest = (high[2 * half :], low[2 * half :])
        high, low = add((high[:half], low[:half]), (high[half : 2 * half], low[half : 2 * half]))
        high, low = np.concatenate([high, rest[0]]), np.concatenate([low, rest[1]])
    if not len(high):
        return np.zeros(high.shape[1:]), np.zeros(high.shape[1:])
    return high[0], low[0]


def slices(high: np.ndarray, low: np.ndarray | None, bits: int, count: int) -> np.ndarray:
    """Cut values of at most ½ (p, m) into slices of ``bits`` and a residue: (count + 1, p, m).

    Slice i is a whole multiple, of at most 2^(bits − 1), of 2^(−bits·(i+1)), so that sums of
    products of two slices are exact while they stay in 53 bits. ``high`` is used up."""
    out = np.empty((count + 1, *high.shape))
    for i in range(count):
        # adding and taking away 1.5·2^(52 − bits·(i+1)) rounds to the grid of the slice
        anchor = 1.5 * 2.0 ** (52 - bits * (i + 1))
        np.add(high, anchor, out=out[i])
        out[i] -= anchor
        np.subtract(high, out[i], out=high if i + 1 < count else out[count])
    if low is not None:
        out[count] += low
    return out


def cholesky(G: Pair, size: np.ndarray, tolerance: float) -> tuple[Pair, np.ndarray]:
    """Return the upper factor R of a symmetric pair matrix G = RᵀR, dependent columns left out.

    Column j is dependent when what the earlier columns leave of it, √pivot, is no larger than
    ``tolerance`` times sizeⱼ + Σ|cₖ|sizeₖ, where cₖ are its coefficients on them.

    Parameters: G (p, p); ``size`` (p,), the columns' sizes as written. Returns R (p, p), with zero
    rows for dependent columns, and which columns were kept (p,)."""
    high, low = G[0].copy(), G[1].copy()
    p = len(high)
    R = np.zeros((p, p), order="F"), np.zeros((p, p), order="F")
    kept = np.zeros(p, dtype=bool)
    # row by row, as a textbook has it; what is left of the matrix is in high and low
    for j in range(p):
        pivot = np.asarray(high[j, j]), np.asarray(low[j, j])
        # the costly question only where a column has lost most of its length
        if not pivot[0] > 1e-6 * G[0][j, j] and not _independent(
            pivot[0], R[0], kept, j, size, tolerance
        ):
            continue
        kept[j] = True
        root = square_root(pivot)
        row = divide((high[j, j:], low[j, j:]), (np.full(p - j, root[0]), np.full(p - j, root[1])))
        R[0][j, j:], R[1][j, j:] = row
        # what column j explains of the later ones is taken off them
        product = multiply(
            (row[0][1:, None], row[1][1:, None]), (row[0][None, 1:], row[1][None, 1:])
        )
        rest = add((high[j + 1 :, j + 1 :], low[j + 1 :, j + 1 :]), negative(product))
        high[j + 1 :, j + 1 :], low[j + 1 :, j + 1 :] = rest
    return R, kept


def _independent(
    pivot: np.ndarray, R: np.ndarray, kept: np.ndarray, j: int, size: np.ndarray, tolerance: float
) -> bool:
    """Return True if what is left of column j is more than rounding could have left."""
    earlier = np.flatnonzero(kept[:j])
    longest = float(size[j])
    # the column's coefficients on those kept: what it is made of, if it is dependent
    if len(earlier):
        weights, _ = lapack.dtrtrs(R[np.ix_(earlier, earlier)], R[earlier, j])
        longest += float(np.abs(weights) @ size[earlier])
    return bool(pivot > (tolerance * longest) ** 2)


def triangular_inverse(R: Pair) -> Pair:
    """Return the inverse of an upper triangular pair matrix (r, r)."""
    r = len(R[0])
    out = np.zeros((r, r)), np.zeros((r, r))
    # back substitution of all columns of the unit matrix at once, from the last row up
    for j in range(r - 1, -1, -1):
        products = multiply(
            (R[0][j, j + 1 :, None], R[1][j, j + 1 :, None]), (out[0][j + 1 :], out[1][j + 1 :])
        )
        rest = negative(total(products))
        unit = np.zeros(r)
        unit[j] = 1.0
        rest = add(rest, (unit, np.zeros(r)))
        pivot = np.full(r, R[0][j, j]), np.full(r, R[1][j, j])
        out[0][j], out[1][j] = divide(rest, pivot)
    return out


def dot(A: Pair, x: Pair) -> Pair:
    """Return a·x for a pair matrix (m, k) and a pair vector (k,)."""
    products = multiply((A[0].T, A[1].T), (x[0][:, None], x[1][:, None]))
    return total(products)
