"""Arkund: a workbench for raw multi-microphone drum recordings."""

import os

# Work is spread over the cores a mic, a piece or a chain at a time; threads of the matrix library
# besides would only wait for each other. Read when NumPy is loaded, so it stands here.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
