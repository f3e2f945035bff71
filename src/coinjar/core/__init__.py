"""The pure heart: facts in, facts out; no files, network, clock, environment or printing."""
