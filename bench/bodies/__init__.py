"""Bodies this program did not make: parametric meshes, posed and marked on the skin."""
