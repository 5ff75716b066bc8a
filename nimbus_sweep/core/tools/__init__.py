"""Steps that no survey asks for."""
