"""Salt Anvil: a bench for shaping the dynamics and tone of tracks and buses."""
