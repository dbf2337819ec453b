"""What a person does with Sondar, without HTTP: check in, test a circuit, record a reading, conclude, share.

Rule of this folder: everything it needs is passed in (``Workspace``: the database as one workshop sees it, and what is computed from
circuits). A function loads what it needs in one transaction, computes with no connection held, and returns what is to be presented.
It imports the core, the store and the devices; nothing of the web.
"""
