"""What hands do: keys in, try-outs, gain, the plain sound."""
