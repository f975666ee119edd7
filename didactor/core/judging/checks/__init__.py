"""One module a kind of finding. Each registers one function from ``Evidence`` to findings; nothing else knows of it."""
