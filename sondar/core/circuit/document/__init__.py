"""The circuit file: ``fields`` says what may stand in it, ``checks`` reads it and finds every problem."""
