"""Sentences that join several things: what a test is called, why it is proposed, what a diagnosis says. Figures come from elsewhere."""
