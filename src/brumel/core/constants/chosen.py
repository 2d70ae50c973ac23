"""Chosen by people, with why. A method or a setting overrides each of them."""

TEMPERATURE_COEFFICIENT_PERCENT = (
    2.0  # per °C; the trade's usual middle between 1.8 (dilute KCl) and 2.2 (ground water)
)
REFERENCE_C = 25.0
TDS_SCALES = (0.5, 0.64, 0.7)  # the factors people meet on displays
TDS_LOW, TDS_HIGH = 0.40, 1.0
#: A salt whose name is not known may follow temperature otherwise than KCl: NaCl by 2.1, KCl by 1.9 % a degree, from memory.
LABEL_SALT_PERCENT_PER_C = 0.2
SALINITY_HIGH = 42.0  # PSS-78 is not defined beyond it
ION_ELECTRODE_MOST_US_CM = 1500.0  # beyond it other ions speak: common practice
ELECTRODE_QUALITY_PURE_US_CM = 100.0  # below it pH is slow and uncertain: common practice
COVERAGE = 2.0  # k of every expanded uncertainty
