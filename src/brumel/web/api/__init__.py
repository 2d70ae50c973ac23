"""The place “api”: what programs ask for and send, under a token, as JSON."""
