"""What happened, as an append-only journal, and the register as a fold over it."""
