"""The honey extractor."""
