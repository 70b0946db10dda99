"""One module a kind of channel: how a message is sent over it."""
