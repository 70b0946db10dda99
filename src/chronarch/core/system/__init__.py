"""What keeps a shop's records safe: sealing, keeping, schedules."""
