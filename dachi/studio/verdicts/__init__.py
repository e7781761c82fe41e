"""What readings over weeks mean: summaries, stages, charts, reports."""
