"""Commands about people, what they may do, and keys."""
