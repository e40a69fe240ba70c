"""Object stores and web servers: addresses, what is fetched from them, and what is put there.

Knows nothing of what lies there: bytes, and the names of objects.
"""
