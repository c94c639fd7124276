"""Kernels on arrays. Planar float32 audio `(channels, frames)`, float64 state, no objects."""
