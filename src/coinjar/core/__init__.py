"""The pure core: values in, values out; no files, network, clock, environment or printing."""
