"""The rules and the arithmetic of the desk: values in, values out, no clock and no network."""
