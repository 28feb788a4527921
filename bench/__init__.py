"""Ratios measured side by side in one run; absolute times on a shared machine mean little.

Pondel comes before anything else, as where it serves: it settles how many threads products of matrices
are given, and that holds from when numpy is imported.
"""

import pondel  # noqa: F401
