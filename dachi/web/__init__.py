"""The rooms around the core: pages as hypermedia, one blueprint for each stage."""
