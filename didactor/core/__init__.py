"""The rules of the job and the computation. Imports no Django, no HTTP, no SQL, and keeps no clock of its own."""
