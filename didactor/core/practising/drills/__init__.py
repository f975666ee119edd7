"""Drills: small exercises made on the spot out of a passage. Each kind is one module that registers itself."""
