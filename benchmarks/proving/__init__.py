"""The proving ground: spoiled clips drawn at random, treated by the product's own command, and scored object by object.

Every case is drawn from its own seed alone. Whatever is chosen or fitted is chosen on some scenes and seeds; figures are quoted
from scenes left out and from seeds nobody looked at, with their interval.
"""
