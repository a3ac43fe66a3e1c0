"""What raw samples do: ends, noise, rails, gaps in time, and findings in words.

In: batches of counts and times. Out: a `Survey` a column, a `TimeSurvey`, `Finding` objects,
`Ends`.
Read `survey.py` first; `findings.py` turns surveys into words.
"""
