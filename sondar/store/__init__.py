"""Plain SQL through psycopg. One module per aggregate, a function per question or change.

Functions take the connection first and leave commit to the caller's transaction. Column aliases equal the fields of the frozen
dataclass they fill. Evidence (readings, voidings, exclusions, conclusions) is appended, with a client-made key that makes a repeat
harmless and a sequence number per job that gives the order.
"""
