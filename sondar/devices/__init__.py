"""Outside devices: adapters that speak open protocols, and in ``simulators`` small devices that serve them."""
