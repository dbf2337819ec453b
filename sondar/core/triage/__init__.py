"""From codes, symptoms, silent modules and the history to the circuit to test first.

``evidence`` is what is known, ``prior_factors`` what the history says, ``model`` the belief over sets of causes, ``candidates`` the
ordered list with its reasons, ``split_check`` the one voltage that tells most, ``views`` what the screen gets.
"""
