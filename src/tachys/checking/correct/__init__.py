"""The model put right by what was measured, and time counted by the board's own clock."""
