"""Budgets of memory and size, each with its reason.

A threshold that belongs to one formula stands beside that formula."""

from __future__ import annotations

# -------------------------------------- rows and cells worked on at a time
BLOCK_ROWS = 32768  # rows of a block of data: its columns stay in a core's cache
BLOCK_CELLS = 2**21  # cells of a block of a wide design: 16 MB for each thread
# rows of an exact product: so many products of two numbers of 2²¹ stay within 2⁵³, and in the cache
EXACT_ROWS = 2048
FETCHED_ROWS = 2**17  # rows fetched from a database at a time
LOOK_CELLS = 2**21  # cells of a design that a look at a response makes at a time
DRAWN_CELLS = 50_000_000  # cells of responses that a rehearsal draws at a time: 400 MB

# -------------------------------------- kept between passes
# cells of the clusters' leverages kept for the degrees of freedom of combinations
CLUSTER_CELLS_KEPT = 1_000_000
ROBUST_CELLS_KEPT = 100_000  # cells of the rows kept for the same under "robust"
GROUP_CELLS_KEPT = 3 * 2**23  # cells of small row groups that are kept: some 200 MB
PASS_CELLS_KEPT = 2**25  # cells of a design kept between passes rather than made again: 256 MB
STRETCHES_KEPT = 8  # stretches of a column kept for the blocks of several threads

# -------------------------------------- held whole
HELD_CELLS = 2**24  # cells up to which a table left where it is is simply read: 128 MB
WHOLE_ROWS = 2**25  # rows up to which one column may be held whole where a question wants that
MOST_DISTINCT = 2**20  # different numbers of a column not held that are counted apart
LOOK_DISTINCT = 1000  # different numbers of a column that a look counts
MOST_TEXTS = 2**20  # different texts of a column that are counted apart
MOST_RANKED = 2**20  # different values whose ranks are learnt
# rows up to which a look ranks: longer columns would take longer than all the rest
LOOK_RANKED = 200_000
DIGEST_ROWS = 2**22  # rows of which four figures are held: 128 MB
MOST_HELD = 2**22  # rows of a table that is read as needed whose figures are held
BASIS_CELLS = 2**26  # cells of the rows in the coefficients' basis: 512 MB
CLUSTER_CELLS = 2**28  # cells of what is held of the clusters: 2 GB
ORDER_CELLS = 2e7  # cells of the basis that the checks of order hold: 160 MB
INDICATOR_CELLS = 2e7  # cells of indicators of an unused category held at once
DESIGN_CELLS = 20_000_000  # cells of the design matrix that is handed out as a table: 160 MB
COPIED_CELLS = 100_000_000  # cells of simulated responses: 800 MB
RESAMPLED_ROWS = 10**7  # rows, repeats counted, that are drawn one by one

# -------------------------------------- looked at, drawn or listed at most
CHECKED_ROWS = 2**21  # rows of a table whose cells and unused columns a page looks at
MOST_ALIKE = 2**20  # rows of a table that is read as needed among which rows alike are looked for
LONG_ROWS = 2**18  # rows of a table from which on shapes are judged on a part of them
JUDGED_ROWS = 2**16  # rows of that part: a bend of partial R² 0.0005 shows in so many
MOST_DRAWN = 2**18  # rows of a table from which pictures draw: a density has no more to show
MOST_REMARKABLE = 1000  # remarkable rows drawn beside those
HELD_COMBINATIONS = 5000  # combinations of levels over which an average is held
MEAN_ROWS = 400  # cells of a product of categories that a table of means lists
FORECAST_ROWS = 200  # rows that the picture of forecasts shows: more cannot be told apart
MOST_AHEAD = 500  # forecasts that the picture of a series shows
MOST_LISTED = 5000  # remarkable rows of a table whose rows are too many to be listed
FITS_SAVED = 1_000  # fits of a set that its file holds whole; of more the figures alone
SHEET_ROWS = 1_000_000  # rows that a sheet of a workbook holds
MOST_CODE = 100_000  # characters of one end of an interval that a page writes out

# -------------------------------------- slips: nobody means so many
MOST_MADE = 2**31  # rows of a made table: no memory holds more
MOST_TIMES = 10**7  # repetitions of a rehearsal: more would take days
MOST_RESAMPLES = 10**7  # resamples of a bootstrap: more would take days
MOST_FILES = 100_000  # files of a folder that is taken for a table
LONGEST_SENTENCE = 10_000  # characters of a model sentence
DEEPEST_SENTENCE = 200  # levels of nesting of a model sentence
MOST_CROSSED = 12  # factors of crossed(...): 2¹² terms
HIGHEST_DEGREE = 30  # degree of a polynomial
MOST_SPLINE_COLUMNS = 100  # columns of a spline
