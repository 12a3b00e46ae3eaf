"""The client side of Anaxis' exchange: write one class for your package, and its cameras are shared live.

The protocol is described in docs/exchange.md of Anaxis. This library needs Python 3.9 and the ``websockets`` package, nothing of Anaxis.
"""

from anaxis_exchange.exchange import Exchange
from anaxis_exchange.host import GROUPS, Camera, Host, Numbers
from anaxis_exchange.journal import Journal

__version__ = "0.1.0"
__all__ = ["GROUPS", "Camera", "Exchange", "Host", "Journal", "Numbers"]
