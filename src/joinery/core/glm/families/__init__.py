"""The families, by name; a new one is a file here and a line below."""

from joinery.core.glm.families.binomial import Binomial
from joinery.core.glm.families.family import Family
from joinery.core.glm.families.gamma import Gamma
from joinery.core.glm.families.inverse_gaussian import InverseGaussian
from joinery.core.glm.families.negative_binomial import NegativeBinomial, shape_slope
from joinery.core.glm.families.normal import Normal
from joinery.core.glm.families.poisson import Poisson

__all__ = ["FAMILIES", "Family", "shape_slope"]
FAMILIES: dict[str, Family] = {
    family.name: family
    for family in (Normal(), Binomial(), Poisson(), Gamma(), InverseGaussian(), NegativeBinomial())
}
