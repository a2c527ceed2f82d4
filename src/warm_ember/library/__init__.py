"""The public face for notebooks, scripts and tests; the command line says what this says."""
