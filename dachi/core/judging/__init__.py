"""From trials to verdicts: series, trend, forecast, limiters, and their wording."""
