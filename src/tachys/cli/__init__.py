"""The commands: the only place that prints, reads the environment or imports Click and Rich."""
