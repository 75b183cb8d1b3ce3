"""Planners that draw samples: trees and roadmaps."""
