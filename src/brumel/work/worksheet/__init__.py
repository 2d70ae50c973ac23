"""The Worksheet's quick calculations: each a question, its fields, and an answer with its working and picture."""

from brumel.work.worksheet import book
from brumel.work.worksheet.book import SUMS, answer, find
from brumel.work.worksheet.model import Answer, AnswerChart, AnswerValue, ChartScale, Curve, QuestionField, Sum

__all__ = [
    "SUMS",
    "Answer",
    "AnswerChart",
    "AnswerValue",
    "ChartScale",
    "Curve",
    "QuestionField",
    "Sum",
    "answer",
    "book",
    "find",
]
