"""Who may do what, and where."""
