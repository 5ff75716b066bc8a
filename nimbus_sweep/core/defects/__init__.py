"""One package for each kind of defect: finding it, repairing it, and its entry in the registry."""
