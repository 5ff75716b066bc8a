"""The queue and the work in it: intake, survey, analysis, render, inspection."""
