"""The rules of the job and the computation. Imports no Django, no HTTP, no SQL, and keeps no clock of its own."""

#: Goes into every analysis. Raise it whenever a result for the same sound and targets can differ.
ENGINE_VERSION = "0.2.0"
