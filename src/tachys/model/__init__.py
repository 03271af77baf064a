"""What the engineer writes: quantities, tables, errors; and the System it means."""
