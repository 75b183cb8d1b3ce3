"""A second world, to try the loop in: it shares no code with our simulator, our law of motion or our contact test.

Rays and contacts are Shapely's, the bases move by a law of their own, and sites, bodies, rates, delays and noises are
drawn at random. It drives `Navigator` through its public interface only.
"""
