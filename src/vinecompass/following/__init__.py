"""Floor 4: following a plan."""

from vinecompass.following.path_follower import FollowingSettings, PathFollower

__all__ = ["FollowingSettings", "PathFollower"]
