"""Computing it: the engine, its cache and its worker, and what sounds next first."""
