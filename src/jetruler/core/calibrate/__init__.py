"""Laws from marks, and one sensor against another.

In: `Marks` (raw values with true ones), or two series of one quantity. Out: a `Fit` or a
`Calibration` with uncertainties, residuals and outliers; a `Comparison` with a verdict.
Read `marks.py` and `fit.py` first; `comparison.py` is the other half.
"""
