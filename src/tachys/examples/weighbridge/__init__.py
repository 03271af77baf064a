"""The weighbridge."""
