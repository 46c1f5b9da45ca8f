"""A simulated network on loopback: devices with real SSH servers, configurations that last, and state worked
out from them.

Nothing here imports the tool it is used to test, and the tool imports nothing of this.
"""
