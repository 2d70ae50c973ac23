"""Exact by definition (SI 2019; CODATA gives R and F as exact products)."""

import math

BOLTZMANN_J_K = 1.380649e-23
AVOGADRO_MOL = 6.02214076e23
ELEMENTARY_CHARGE_C = 1.602176634e-19

GAS_CONSTANT_J_MOL_K = BOLTZMANN_J_K * AVOGADRO_MOL
FARADAY_C_MOL = ELEMENTARY_CHARGE_C * AVOGADRO_MOL
ZERO_CELSIUS_K = 273.15
STANDARD_PRESSURE_HPA = 1013.25

#: ln(10) R / F in mV per kelvin: the Nernst slope is this times the absolute temperature.
NERNST_MV_PER_K = math.log(10) * GAS_CONSTANT_J_MOL_K / FARADAY_C_MOL * 1000
