"""The service: routes, sign-in, the live stream and the dispatch loop."""
