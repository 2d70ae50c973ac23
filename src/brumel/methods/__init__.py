"""Methods as data: sequences, limits and sources, loaded and validated."""

from brumel.methods.loader import ORDER, MethodFault, load_faults, load_method, load_methods, parse_method
from brumel.methods.model import Limit, Method, StepSpec

__all__ = [
    "ORDER",
    "Limit",
    "Method",
    "MethodFault",
    "StepSpec",
    "load_faults",
    "load_method",
    "load_methods",
    "parse_method",
]
