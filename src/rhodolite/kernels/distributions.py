"""Normal, t and gamma distributions, from SciPy, which is imported when it is needed since that
takes a while."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

Array = NDArray[Any]


def t_below(freedom: Any, value: Any) -> Array:
    """Return the probability of Student's t below a value.

    Parameters
    ----------
    freedom : float or ndarray
        Degrees of freedom.
    value : float or ndarray

    Examples
    --------
    >>> round(float(t_below(10, 1.8125)), 4)
    0.95
    """
    from scipy.special import stdtr

    return np.asarray(stdtr(freedom, value))


def t_quantile(freedom: Any, share: float) -> Array:
    """Return the value below which a share of Student's t lies.

    Parameters
    ----------
    freedom : float or ndarray
        Degrees of freedom.
    share : float
        Probability.

    Examples
    --------
    >>> round(float(t_quantile(10, 0.975)), 4)
    2.2281
    """
    from scipy.special import stdtrit

    return np.asarray(stdtrit(freedom, share))


def normal_below(value: Any) -> Array:
    """Return the probability of the standard normal distribution below a value.

    Examples
    --------
    >>> round(float(normal_below(1.96)), 4)
    0.975
    """
    from scipy.special import ndtr

    return np.asarray(ndtr(value))


def normal_quantile(share: Any) -> Array:
    """Return the value below which a share of the standard normal distribution lies.

    Examples
    --------
    >>> round(float(normal_quantile(0.975)), 4)
    1.96
    """
    from scipy.special import ndtri

    return np.asarray(ndtri(share))


def gamma_below(shape: Any, value: Any) -> tuple[Array, Array]:
    """Return the probabilities of the gamma distribution of scale 1 below and above a value.

    Parameters
    ----------
    shape, value : float or ndarray

    Examples
    --------
    >>> below, above = gamma_below(1.0, np.log(2.0))
    >>> round(float(below), 6), round(float(above), 6)
    (0.5, 0.5)
    """
    from scipy.special import gammainc, gammaincc

    return np.asarray(gammainc(shape, value)), np.asarray(gammaincc(shape, value))


def gamma_quantile(shape: Any, share: Any) -> Array:
    """Return the value below which a share of the gamma distribution of scale 1 lies.

    Examples
    --------
    >>> round(float(gamma_quantile(1.0, 0.5)), 6)
    0.693147
    """
    from scipy.special import gammaincinv

    return np.asarray(gammaincinv(shape, share))


def log_gamma_slopes(value: Any) -> tuple[Array, Array]:
    """Return the first and second derivative of the logarithm of the gamma function."""
    from scipy.special import polygamma, psi

    return np.asarray(psi(value)), np.asarray(polygamma(1, value))
