"""Simulated packages and a simulated hand-held tracker, in processes of their own.

They stand for what cannot be reached here. Of Anaxis they know the exchange alone (docs/exchange.md): nothing in here
imports anything of its code, and what a package's numbers mean is worked out here once more.
"""
