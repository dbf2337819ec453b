"""From predictions to a judgement, in figures and ids; ``core.wording`` says it in sentences.

* ``hypotheses``       what may be wrong, with prior probability, place, unit and group
* ``predictions``      what each test shows under each hypothesis, cached per set-up
* ``belief``           Bayes over the readings that have not been voided; what each reading did
* ``costs``            what a wrong conclusion and a test cost
* ``ranking``          which test to make next, and when to stop; ``lookahead`` two tests together,
  ``foresight`` what the next results may be
* ``pairs``            two faults that only together explain everything
* ``judge``            all of it, in order
* ``entry_check``      whether an entry's order of magnitude was meant
* ``expected_values``, ``waveform``  what a suspect would show over the whole drawing, and over time
* ``sequencing``       the same question for a table of states and tests, without a circuit
"""
