"""Results as text, trees, pictures and documents. Knows results, decides nothing."""
