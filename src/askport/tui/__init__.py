"""The full screen: shows state and sends intents; what is true is decided in the core."""
