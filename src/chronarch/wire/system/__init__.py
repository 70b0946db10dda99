"""What concerns the service itself."""
