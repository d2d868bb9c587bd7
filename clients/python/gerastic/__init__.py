"""Fragments, purges and early answers of a Gerastic node.

    g = Gerastic("http://127.0.0.1:8490", token)
    f = g.fragments()
    card = f.load_or_fill(lambda: render_card(3), name="card", parts=[3], lifetime="1h", tags=["product:3"])
"""

from .client import Fragments, Gerastic
from .keys import FOREVER, key_of
from .scope import Scope
from .wire import Refused, Unreached

__all__ = ["FOREVER", "Fragments", "Gerastic", "Refused", "Scope", "Unreached", "key_of"]
