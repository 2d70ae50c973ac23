"""Is the probe fit? What the points of a run add up to, quantity by quantity: a fit, verdict rows, and what it showed.

Each module has `assess(points, limits, terms) -> Fitness` and `restore(data)`, the inverse of the fit's `as_dict`.
"""

from brumel.core.fitness.common import CalibrationPoint, Fitness, Fitted, JudgingTerms, as_found_rows, common_rows

__all__ = ["CalibrationPoint", "Fitness", "Fitted", "JudgingTerms", "as_found_rows", "common_rows"]
