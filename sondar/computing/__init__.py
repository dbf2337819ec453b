"""Worker processes: heavy work is given to them, so that no page waits for another page's circuit.

A piece of work is a function of a module and its arguments. It depends on them alone: any worker may do it, on any host, and doing
it twice is only a waste. The worker's own context (what it has computed before) is passed to the function first.
"""
