"""Definition: the service is not registered, or its definition or what it names is not right."""
