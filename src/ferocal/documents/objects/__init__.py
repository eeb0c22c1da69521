"""JSON objects of results, declared key by key."""
