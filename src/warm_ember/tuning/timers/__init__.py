"""Radio sleep timers, one module per standard."""
