"""From predictions to a conclusion.

* ``hypotheses``  what may be wrong, with prior probability, place, unit and group
* ``tests``       which probe pairs with which instrument are allowed and sensible in a set-up
* ``predictions`` what each test shows under each hypothesis, cached per set-up
* ``belief``      Bayes over the standing readings; what each reading did
* ``plan``        which test to make next, and when to stop
* ``conclusion``     the sentence, the evidence, what would change it
"""
