"""What a camera at a machine sees, in perspective: the bed, the head, what was laid and what went wrong with it."""
