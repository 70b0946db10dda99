"""The commands about the service itself."""
