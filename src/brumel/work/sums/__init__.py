"""The Worksheet's quick sums: each a question, its fields, and an answer with working, picture, source and validity."""

from brumel.work.sums import book
from brumel.work.sums.book import SUMS, answer, find
from brumel.work.sums.model import Answer, Chart, Curve, Entry, Scale, Sum, Value

__all__ = ["SUMS", "Answer", "Chart", "Curve", "Entry", "Scale", "Sum", "Value", "answer", "book", "find"]
