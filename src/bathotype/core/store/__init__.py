"""The chunk store: packs, manifests, capture into it, materialise out of it, verify and collect."""
