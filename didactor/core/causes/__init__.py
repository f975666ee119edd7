"""Why something went wrong, as far as the score knows: one module a cause, each of which registers itself. In doubt all are silent."""
