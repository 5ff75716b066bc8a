"""The survey, the chain of steps with its analyses, rendering, trials, inspection and proof."""
