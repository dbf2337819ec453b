"""Outside devices: adapters that speak open protocols, and in ``standins`` small devices that serve them."""
