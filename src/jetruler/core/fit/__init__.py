"""Laws from marks: models, regression, what a fit says, and its place in a channel."""
