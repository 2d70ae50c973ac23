"""Constants of three kinds, kept apart: `defined` (exact), `measured` (with source), `chosen` (with why)."""
