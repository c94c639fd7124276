"""From a session to sound: plan, live player, offline render, cache. The same code renders live and offline."""
