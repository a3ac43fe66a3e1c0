"""One sensor against another, or against a reference: pairs, statistics, verdict."""
