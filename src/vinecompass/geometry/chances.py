"""What chance allows an error that is spread as a normal distribution."""

from __future__ import annotations

from scipy.special import gammaincinv

__all__ = ["chi_square_bound"]


def chi_square_bound(share: float, parts: int) -> float:
    """Return the square, by its covariance, that an error of so many parts stays below in a share of all cases.

    As `scipy.stats.chi2.ppf`, whose import alone takes as long as a small command.

    >>> round(chi_square_bound(0.95, 2), 3)
    5.991
    """
    return float(2.0 * gammaincinv(parts / 2.0, share))
