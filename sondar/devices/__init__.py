"""Outside devices: adapters that speak open protocols. Simulated ones to speak with are in ``sondar.simulators``."""
