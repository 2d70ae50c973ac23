"""Numbers in, numbers out: the science of the trade, without clock, files, database or pages.

Canonical units everywhere (degrees Celsius, mV, pH, µS/cm, mg/L, hPa, m, s); the unit stands in the name.
"""
