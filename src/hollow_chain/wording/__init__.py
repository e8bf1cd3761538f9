"""Text by its form: what of it is a secret, and is masked before it leaves its host."""
