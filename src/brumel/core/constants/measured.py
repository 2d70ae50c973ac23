"""Measured by others, with source. Tables marked "from memory" are cross-checked in the tests where that is possible."""

from __future__ import annotations

#: Potential of reference half-cells against the standard hydrogen electrode, mV, by filling and temperature [USGS-A6.5],
#: from memory of its table; 25 °C agrees with the handbook's 209, 205, 199 and 244.
HALF_CELL_C = (10.0, 15.0, 20.0, 25.0, 30.0, 35.0, 40.0)
HALF_CELL_MV: dict[str, tuple[float, ...]] = {
    "agcl-3m": (220.0, 216.0, 213.0, 209.0, 205.0, 202.0, 198.0),
    # Midway between the two beside it, as 207 mV at 25 °C is [from memory].
    "agcl-3.3m": (217.5, 214.0, 210.5, 207.0, 203.0, 199.5, 195.5),
    "agcl-3.5m": (215.0, 212.0, 208.0, 205.0, 201.0, 197.0, 193.0),
    "agcl-saturated": (214.0, 209.0, 204.0, 199.0, 194.0, 189.0, 184.0),
    "calomel-saturated": (254.0, 251.0, 248.0, 244.0, 241.0, 238.0, 234.0),
}
HALF_CELL_NAMES = {
    "agcl-3m": "Ag/AgCl, 3 mol/L KCl",
    "agcl-3.3m": "Ag/AgCl, 3.3 mol/L KCl",
    "agcl-3.5m": "Ag/AgCl, 3.5 mol/L KCl",
    "agcl-saturated": "Ag/AgCl, saturated KCl",
    "calomel-saturated": "calomel, saturated KCl",
}

#: KCl standards as printed on bottles: µS/cm at temperatures, from memory.
KCL_STANDARDS: dict[str, tuple[tuple[float, ...], tuple[float, ...]]] = {
    "1413": ((5, 10, 15, 20, 25, 30), (896, 1020, 1147, 1278, 1413, 1552)),
    "12880": ((5, 10, 15, 20, 25, 30), (8220, 9330, 10480, 11670, 12880, 14120)),
    "111800": ((0, 5, 10, 15, 20, 25), (65400, 74100, 83200, 92500, 102100, 111800)),
    # Demal solutions [OIML-R56] at their three temperatures, from memory.
    "demal-1": ((0, 18, 25), (65140, 97810, 111310)),
    "demal-0.1": ((0, 18, 25), (7134, 11161, 12852)),
    "demal-0.01": ((0, 18, 25), (773.3, 1219.9, 1408.2)),
}
#: Known at 25 °C only; the rest follows the shape of the 1413 table (KCl of similar strength).
KCL_AT_25 = (84.0, 147.0, 447.0, 500.0, 1000.0, 5000.0)

#: Natural water, factor from T to 25 °C [EN27888], from memory of its table at every 5 °C; held to the ratio from PSS78 at
#: salinity 0.3 within 2 % by a test.
NATURAL_WATER_C = (0.0, 5.0, 10.0, 15.0, 20.0, 25.0, 30.0, 35.0)
NATURAL_WATER_F25 = (1.918, 1.643, 1.428, 1.256, 1.116, 1.000, 0.903, 0.822)

#: Equivalent conductance of NaCl at 25 °C, S cm2/mol, by concentration in mol/L: handbook table, from memory.
NACL_MOLAR = (0.0005, 0.001, 0.005, 0.01, 0.02, 0.05, 0.1, 0.5, 1.0)
NACL_CONDUCTANCE = (124.44, 123.68, 120.59, 118.45, 115.70, 111.01, 106.69, 93.62, 85.76)
NACL_G_MOL = 58.443

#: PSS-78: conductivity of sea water of salinity 35 at 15 °C and the surface, µS/cm [PSS78].
SEAWATER_35_15_US_CM = 42914.0

OXYGEN_G_MOL = 31.9988
NITROGEN_G_MOL = 14.0067
NITRATE_G_MOL = 62.0049
AMMONIA_G_MOL = 17.0305
AMMONIUM_G_MOL = 18.0385
CHLORINE_G_MOL = 70.906  # Cl2
CYANURIC_G_MOL = 129.074
CARBON_DIOXIDE_G_MOL = 44.0095
CHLORIDE_G_MOL = 35.453
POTASSIUM_G_MOL = 39.0983
