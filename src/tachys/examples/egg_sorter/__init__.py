"""An egg sorter, of which some eggs pass the flap."""
