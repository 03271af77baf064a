"""Clock and timer arithmetic in exact rationals: settings for a rate, what settings yield, and what went wrong.

Rates are in hertz, periods in seconds, both as :class:`fractions.Fraction`; nothing here knows a model or a file.
"""
