"""The simulated platform: a workspace and a gateway for when there is no real one.

A real HTTP service with its own store. It runs in a server of its own (``inchworm sim serve``), or
in process, behind the same requests. It knows nothing of Inchworm but the definitions it is sent.
"""
