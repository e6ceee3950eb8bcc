"""The note grid of the Layers stage: a layer's notes under hands, and the tools for them."""
