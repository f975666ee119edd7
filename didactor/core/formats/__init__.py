"""Results out: the analysis as JSON with its schema, and the score with lanes as SVG."""
