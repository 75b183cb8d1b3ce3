"""The particle filter: many guesses of the pose, moved by the odometry and weighed by the scan."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.errors import InputError
from vinecompass.geometry import arc, arc_velocity, compose, relative
from vinecompass.grids import Grid, MapRays
from vinecompass.localization.clusters import Cluster, find_clusters, shrunk_between, whole_cloud
from vinecompass.localization.drift import Drift, DriftFollower
from vinecompass.localization.kernels import blurred, tempered
from vinecompass.localization.measurement_model import LikelihoodFieldModel, choose_beams, measurement_model
from vinecompass.localization.motion_model import MotionNoise, sample_increments, sample_velocities
from vinecompass.localization.place_search import Place, PlaceSearch
from vinecompass.localization.recovery import LikelihoodAverages
from vinecompass.localization.resampling import low_variance_sample, particles_needed
from vinecompass.localization.scan_agreement import ScanAgreement, ScanJudge, agreeing_share
from vinecompass.localization.second_opinion import SecondOpinion, second_opinion
from vinecompass.localization.settings import LocalizationSettings
from vinecompass.localization.state import State, StateWatch
from vinecompass.localization.telling_drive import TellingDrive, telling_drive
from vinecompass.odometry import BodyVelocity, Motion, returned_beams
from vinecompass.robot import Robot
from vinecompass.runs import Scan

__all__ = ["Estimate", "ParticleLocalizer", "Snapshot"]

FloatArray = NDArray[np.float64]
FEWEST_EFFECTIVE = 0.05
"""Share of the particles that still count after a scan: its likelihoods are flattened until they do."""
TRUST_BETWEEN = 0.005
"""Share of what a scan says for one cluster of particles against another that counts."""
BLUR = 0.2
"""Share of the cloud's standard deviation by which resampled particles are set apart."""
FEWEST_BEAMS = 8
"""A scan of which fewer return says nothing."""
JUDGED_BEAMS = 150
"""About so many beams of each scan are compared with the map one by one."""
NEWS, NEWS_TURN, OLD_NEWS = 0.05, np.radians(3.0), 0.03
"""A scan taken after so many metres or radians of motion is new. One from standstill repeats the errors of the last,
as it sees the same walls from the same place, and counts this much."""
ABOUT = np.array([0.08, 0.08, np.radians(1.5)])
"""Standard deviations at which particles are drawn about a place that was found, m and radians."""
GIVEN = 3.0
"""Standard deviations of the initial pose within which it is not called wrong."""
DOUBT_OF_GIVEN = 0.1
"""Weight that places which fit clearly better than the initial pose start with."""
LOOK_AGAIN, LOOK_AGAIN_AFTER = 1.0, 2.0
"""Metres and seconds between two searches of the map while the pose is doubted."""
SURELY_BETTER = 3.0
"""How many times better another place must fit to be believed at once. A place that fits only clearly better must do so
again a metre on: where furniture was moved, some other place may look more like the map for a while."""
CHECKS = (3.0, 8.0)
"""Metres after a place was found on the map, at which the map is searched once more: an aisle may look like another."""
NOWHERE = 0.2
"""Share of agreeing beams below which the robot is lost if the scan fits nowhere else either: behind panes of glass,
which beams pass, it can be little more."""
LEAST_INJECTED = 0.2
"""Share of the weight that places found elsewhere get at least."""
JUMP = 1.5
"""How many times faster than the robot can go the odometry may seem."""


@dataclass(frozen=True)
class Estimate:
    """Where the robot is believed to be.

    Parameters
    ----------
    t : float
        Stamp of the scan, s.
    pose : array, (3,)
        Mean of the heaviest cluster of particles in the site frame, m and radians.
    covariance : array, (3, 3)
        Of the cluster about it and of the map's own walls, m2, m rad and rad2.
    state : {"searching", "settling", "tracking", "doubtful", "lost"}
        As in `StateWatch`.
    reason : str
        Why.
    agreement : float
        Share of the beams that agree with the map at `pose`, 0 to 1, as in `ScanAgreement`; `nan` without beams.
    clusters : list of Cluster
        All answers that the particles give, the heaviest first.
    particles : int
        How many there are.
    effective_sample_size : float
        ``1 / sum(weights**2)``, before resampling.
    drift : Drift
        Where the track frame lies in the site, without jumps.
    """

    t: float
    pose: FloatArray
    covariance: FloatArray
    state: State
    reason: str
    agreement: float
    clusters: list[Cluster]
    particles: int
    effective_sample_size: float
    drift: Drift

    @property
    def settled(self) -> bool:
        """Whether it can be driven by."""
        return self.state == "tracking"


@dataclass(frozen=True)
class Rival:
    """A place that fitted better, though not surely: where, the odometry's pose then, and how it was told."""

    pose: FloatArray
    odometry: FloatArray
    reason: str


@dataclass(frozen=True)
class Snapshot:
    """The filter after a scan, to be drawn.

    Parameters
    ----------
    estimate : Estimate
    particles : array, (N, 3)
        In the site frame.
    weights : array, (N,)
        Sum to 1.
    scan : ScanAgreement
        The last scan from the estimate, beam by beam.
    """

    estimate: Estimate
    particles: FloatArray
    weights: FloatArray
    scan: ScanAgreement


class ParticleLocalizer:
    """Localizes a robot in a map, one scan at a time, from a rough initial pose or from anywhere.

    Parameters
    ----------
    grid : Grid
    robot : Robot
    initial_pose : array_like, (3,), optional
        In the site frame, m and radians. If not given, the whole map is searched for the first scan.
    settings : LocalizationSettings, optional
    seed : int
        Same seed, same estimates.

    Attributes
    ----------
    particles : array, (N, 3)
        In the site frame.
    weights : array, (N,)
        Sum to 1.
    second_opinion : SecondOpinion or None
        On the initial pose, by the first scan that says anything.

    Raises
    ------
    InputError
        The map has no occupied cell, or the initial pose lies off it, or inside a wall with no free floor about it.

    Notes
    -----
    Monte Carlo localization with recovery (Thrun, Burgard and Fox, 2005, "Probabilistic Robotics", chapter 8), the
    number of particles by Fox (2003), and particles drawn where the scan fits (Lenser and Veloso, 2000, "Sensor
    resetting localization"; Thrun et al., 2001, "Robust Monte Carlo localization for mobile robots").

    A scan stamped before the last one is left out, and so is motion that the robot cannot have made; the reason then
    says so.

    Examples
    --------
    >>> from vinecompass import demo_file, grid_from_drawing, read_robot
    >>> from vinecompass.odometry import Motion
    >>> robot = read_robot(demo_file("robot.toml"))
    >>> room = grid_from_drawing("#####\\n#...#\\n#...#\\n#...#\\n#####", 1.0)
    >>> localizer = ParticleLocalizer(room, robot, [2.5, 2.5, 0.0], seed=1)
    >>> blind = Scan(0.0, np.full(robot.scanner.beams, np.nan, np.float32))
    >>> still = Motion(0.0, np.zeros(3), np.zeros((robot.scanner.beams, 3)))
    >>> localizer.update(blind, still).state
    'settling'
    """

    def __init__(
        self, grid: Grid, robot: Robot, initial_pose: ArrayLike | None = None, *,
        settings: LocalizationSettings | None = None, seed: int,
    ) -> None:  # fmt: skip
        if not np.any(grid.occupied):
            raise InputError("the map has no occupied cell", expected="a map to compare scans with")
        s = self._settings = settings or LocalizationSettings()
        self._grid, self._robot, self._lidar = grid, robot, robot.scanner
        self._noise = MotionNoise.of(s)
        self._rng = np.random.default_rng(seed)
        self._rays = MapRays(grid)
        self._model = measurement_model(grid, self._rays, self._lidar, s)
        self._field_model = (
            self._model if isinstance(self._model, LikelihoodFieldModel)
            else measurement_model(grid, self._rays, self._lidar, s.model_copy(update={"measurement": "field"}))
        )  # fmt: skip
        self._judge = ScanJudge(grid, self._rays, near=3.0 * s.field_spread)
        self._search = PlaceSearch(grid, self._rays, self._judge)
        self._averages, self._drift = LikelihoodAverages(), DriftFollower()
        self._map_covariance = np.diag([s.map_spread**2, s.map_spread**2, np.radians(s.map_spread_deg) ** 2])
        self._spread = np.array([s.start_spread, s.start_spread, np.radians(s.start_spread_deg)])
        self._initial_pose: FloatArray | None = None
        if initial_pose is not None:
            self._initial_pose = self._checked(initial_pose)
            self.particles = self._about_initial_pose(s.most_particles)
            self._watch = StateWatch(s, "settling", "begun from the initial pose given")
        else:
            self.particles = self._over_free_floor(s.least_particles)
            self._watch = StateWatch(s, "searching", "no scan yet")
        self.weights = np.full(len(self.particles), 1.0 / len(self.particles))
        self.second_opinion: SecondOpinion | None = None
        self._started = False
        self._last_t = self._seen_at = -np.inf
        self._last_odometry: FloatArray | None = None
        self._odometry = np.zeros(3)
        self._last_step = np.zeros(3), 0.0
        self._way_since_look, self._looked_at = 0.0, -np.inf
        self._checks_in: list[float] = []
        self._scan = np.zeros((0, 2)), np.zeros((0, 2))
        self._rival: Rival | None = None
        self._ambiguous = False
        self._estimate: Estimate | None = None

    def update(self, scan: Scan, odometry: Motion | BodyVelocity) -> Estimate:
        """Move the particles by the odometry since the last scan, weigh them by this one, and resample if needed.

        Raises
        ------
        InputError
            The scan has another number of beams than the robot's lidar.
        """
        if len(scan.ranges) != self._lidar.beams:
            raise InputError(
                "is no scan of this lidar", key="ranges", value=f"{len(scan.ranges)} beams",
                expected=f"{self._lidar.beams} beams",
            )  # fmt: skip
        if self._estimate is not None and not scan.t > self._last_t:
            reason = f"a scan stamped {scan.t:.3f} s came after one of {self._last_t:.3f} s and was left out"
            return self._told(self._estimate.clusters, float("nan"), 1.0 / float(np.sum(self.weights**2)), reason)
        duration = scan.t - self._last_t if self._estimate is not None else 0.0
        step, sweep, fault = self._move(odometry, duration)
        self._last_t = scan.t
        origins, ends = returned_beams(scan.ranges, self._lidar, sweep)
        self._scan = origins, ends
        seen = len(ends) >= FEWEST_BEAMS
        if seen or self._seen_at == -np.inf:
            self._seen_at = scan.t
        way = float(np.hypot(step[0], step[1]))
        self._way_since_look += way
        self._checks_in = [left - way for left in self._checks_in]
        if seen and not self._started:
            self._start(origins, ends)
        if not self._started:
            clusters = [whole_cloud(self.particles, self.weights)]
            if not seen:
                self._follow(clusters, float("nan"), fault, fallen=False)
            return self._told(clusters, float("nan"), float(len(self.weights)), fault)
        sample_size = 1.0 / float(np.sum(self.weights**2))
        if seen:
            news = way / NEWS + abs(float(step[2])) / NEWS_TURN if self._estimate is not None else 1.0
            self._weigh(origins, ends, min(max(news, OLD_NEWS), 1.0))
            sample_size = 1.0 / float(np.sum(self.weights**2))
        clusters, labels = find_clusters(self.particles, self.weights)
        self._ambiguous = len(clusters) > 1
        agreement = float("nan")
        if seen:
            every = -(-len(ends) // JUDGED_BEAMS)
            agreement = agreeing_share(self._judge.verdicts(clusters[0].pose, origins[::every], ends[::every]))
        share = self._fall_of_likelihood(clusters[0].pose, origins, ends) if seen else 0.0
        self._follow(clusters, agreement, fault, fallen=share > 0.0)
        if sample_size < 0.5 * len(self.weights):
            self._resample(labels, clusters)
        if seen:
            self._look_elsewhere(clusters[0].pose, agreement, share)
        return self._told(clusters, agreement, sample_size, fault)

    def snapshot(self) -> Snapshot:
        """Return the filter as the last scan left it.

        Raises
        ------
        InputError
            There was no scan yet.
        """
        if self._estimate is None:
            raise InputError("no scan yet", key="scan", expected="an update first")
        scan = self._judge.judge(self._estimate.pose, *self._scan)
        return Snapshot(self._estimate, self.particles, self.weights, scan)

    def telling_drive(self) -> TellingDrive | None:
        """Return the drive that would tell the two heaviest clusters apart; None if there is one only, or none does."""
        clusters = [] if self._estimate is None else self._estimate.clusters
        if len(clusters) < 2:
            return None
        return telling_drive(self._rays, self._robot, clusters[0].pose, clusters[1].pose)

    def _checked(self, initial_pose: ArrayLike) -> FloatArray:
        pose = np.asarray(initial_pose, dtype=float)
        if pose.shape != (3,) or not np.all(np.isfinite(pose)):
            raise InputError("is not a pose", key="initial_pose", value=initial_pose, expected="x, y, heading")
        if not self._grid.contains(self._grid.cells_at(pose[None, :2]))[0]:
            raise InputError(
                "lies off the map", key="initial_pose", value=[round(float(v), 3) for v in pose],
                expected="x, y on the map",
            )  # fmt: skip
        return pose

    def _about_initial_pose(self, count: int) -> FloatArray:
        """Draw particles about the initial pose, none of them inside a wall."""
        assert self._initial_pose is not None
        drawn = self._initial_pose + self._spread * self._rng.standard_normal((count, 3))
        standing = self._rays.clearance_at(drawn[:, :2]) > 0.0
        if not np.any(standing):
            x, y = self._initial_pose[:2]
            raise InputError(
                "lies inside a wall, and no free floor near", key="initial_pose",
                value=[round(float(x), 3), round(float(y), 3)], expected="x, y on floor that is free in the map",
            )  # fmt: skip
        good = drawn[standing]
        return good[np.arange(count) % len(good)]

    def _over_free_floor(self, count: int) -> FloatArray:
        cells = np.argwhere(self._grid.free)
        if len(cells) == 0:
            raise InputError("the map has no free cell", expected="a map with floor to be on")
        chosen = cells[self._rng.integers(len(cells), size=count)]
        return np.column_stack([self._grid.points_of(chosen), self._rng.uniform(-np.pi, np.pi, count)])

    def _move(self, odometry: Motion | BodyVelocity, duration: float) -> tuple[FloatArray, FloatArray, str]:
        """Move the particles. Returns the step made, the body's poses as each beam fired, and what was wrong."""
        if isinstance(odometry, BodyVelocity):
            velocity = odometry.vector
            if not np.all(np.isfinite(velocity)):
                return np.zeros(3), np.zeros((self._lidar.beams, 3)), "the velocity is not a number and was left out"
            step = arc(velocity, duration)
            self._odometry = compose(self._odometry, step)
            if duration > 0.0:
                self.particles = sample_velocities(
                    self.particles, velocity, duration, self._robot.drive, self._noise, self._rng
                )
            return step, arc(velocity, self._lidar.beam_delays), ""
        if not np.all(np.isfinite(odometry.pose)) or not np.all(np.isfinite(odometry.sweep)):
            return np.zeros(3), np.zeros((self._lidar.beams, 3)), "the odometry is not a number and was left out"
        before, self._last_odometry = self._last_odometry, odometry.pose
        if before is None:
            self._odometry = odometry.pose
            return np.zeros(3), odometry.sweep, ""
        step = relative(odometry.pose, before)
        drive, fault = self._robot.drive, ""
        way, turn = float(np.hypot(step[0], step[1])), abs(float(step[2]))
        if way > JUMP * drive.top_speed * duration + 0.1 or turn > JUMP * drive.top_turn_rate * duration + 0.1:
            # What it did before the jump is the best guess; the transform to the site must not follow the jump.
            fault = (
                f"the odometry jumped by {way:.2f} m and {np.degrees(turn):.0f} degrees within {duration:.2f} s "
                "and was left out"
            )
            step = arc(self._last_velocity(), duration)
            self._drift.track_moved(self._odometry, odometry.pose, step)
        else:
            self._last_step = step, duration
        self._odometry = odometry.pose
        self.particles = sample_increments(self.particles, step, drive, self._noise, self._rng)
        return step, odometry.sweep, fault

    def _last_velocity(self) -> FloatArray:
        step, duration = self._last_step
        return arc_velocity(step) / duration if duration > 0.0 else np.zeros(3)

    def _start(self, origins: FloatArray, ends: FloatArray) -> None:
        """Draw the first particles: about the pose given and where the scan fits near it, or where it fits at all."""
        s = self._settings
        if self._initial_pose is None:
            if self._due():
                self._start_anywhere(self._search.anywhere(origins, ends))
            return
        self._started = True
        reach = GIVEN * self._spread
        opinion = self.second_opinion = second_opinion(
            self._search, self._initial_pose, origins, ends, reach=reach[0], turn=reach[2],
            clearly_better=s.clearly_better,
        )  # fmt: skip
        half = len(self.particles) // 2
        self.particles[:half] = opinion.given.pose + ABOUT * self._rng.standard_normal((half, 3))
        if opinion.better:
            best = opinion.better[0]
            if best.fit > SURELY_BETTER * opinion.given.fit:
                self._add([best.pose], DOUBT_OF_GIVEN)
            else:
                self._rival = Rival(best.pose, self._odometry, opinion.warning)

    def _start_anywhere(self, places: list[Place]) -> None:
        s = self._settings
        if not places:
            self._watch.begin(self._last_t, "searching", "the scan fits nowhere on the map")
            return
        self._started = True
        count = min(max(s.least_particles * len(places), s.least_particles), s.most_particles)
        poses = np.array([place.pose for place in places])[np.arange(count) % len(places)]
        self.particles = poses + ABOUT * self._rng.standard_normal((count, 3))
        self.weights = np.full(count, 1.0 / count)
        reason = f"the scan fits at {places[0]}"
        if len(places) > 1:
            reason = f"the scan fits as well in {len(places)} places, as at {places[0]} and {places[1]}"
            drive = telling_drive(self._rays, self._robot, places[0].pose, places[1].pose)
            reason += f"; {drive}" if drive else "; no straight drive of 10 m would tell"
        self._ambiguous, self._checks_in = len(places) > 1, list(CHECKS)
        self._watch.begin(self._last_t, "settling", reason)

    def _add(self, poses: list[FloatArray], share: float) -> None:
        """Put a share of the weight, on particles of their own, about some poses."""
        count = max(self._settings.least_particles // 2, round(share * len(self.particles)))
        room = max(self._settings.most_particles - count, 1)
        if len(self.particles) > room:
            kept = low_variance_sample(self.weights, room, self._rng)
            self.particles, self.weights = self.particles[kept], np.full(room, 1.0 / room)
        drawn = np.array(poses)[np.arange(count) % len(poses)] + ABOUT * self._rng.standard_normal((count, 3))
        self.particles = np.vstack([self.particles, drawn])
        self.weights = np.append((1.0 - share) * self.weights, np.full(count, share / count))
        self._ambiguous = True

    def _weigh(self, origins: FloatArray, ends: FloatArray, news: float) -> None:
        s = self._settings
        chosen = choose_beams(ends, s.beams)
        gained = self._model.log_likelihoods(self.particles, origins[chosen], ends[chosen])
        gained *= s.beam_trust * news
        if self._ambiguous:
            _, labels = find_clusters(self.particles, self.weights)
            gained = shrunk_between(gained, self.weights, labels, TRUST_BETWEEN)
        # A scan that leaves but a handful of particles says that they lie too far apart for how sharp it is, not that
        # these few are right.
        self.weights = tempered(self.weights, gained, FEWEST_EFFECTIVE)

    def _fall_of_likelihood(self, pose: FloatArray, origins: FloatArray, ends: FloatArray) -> float:
        """Return what share of the particles should be drawn elsewhere, by how likely scans were of late, 0 to 1."""
        # By the likelihood field, whichever the measurement model: it does not change with how far the walls are.
        chosen = choose_beams(ends, self._settings.beams)
        total = self._field_model.log_likelihoods(pose[None], origins[chosen], ends[chosen])[0]
        return self._averages.update(float(np.exp(total / len(chosen))), learn=self._watch.state == "tracking")

    def _follow(self, clusters: list[Cluster], agreement: float, fault: str, *, fallen: bool) -> None:
        """Let the state follow what came of the scan."""
        details = ""
        if agreement < self._settings.settled_agreement:
            worst = self._judge.judge(clusters[0].pose, *self._scan).disagreements[:2]
            details = ": " + ", ".join(str(one) for one in worst) if worst else ""
        if fault and self._watch.state == "tracking":
            self._watch.begin(self._last_t, "doubtful", fault)
        else:
            rival = "" if self._rival is None else self._rival.reason
            self._watch.update(
                self._last_t, clusters, agreement, blind_for=self._last_t - self._seen_at, fallen=fallen, rival=rival,
                details=details,
            )  # fmt: skip

    def _look_elsewhere(self, pose: FloatArray, agreement: float, share: float) -> None:
        """Look for where the scan fits better than where the robot is believed to be, if that is in doubt."""
        s, t = self._settings, self._last_t
        in_doubt = share > 0.0 or not agreement >= s.doubt_agreement or self._watch.state == "lost"
        to_check = bool(self._checks_in) and self._checks_in[0] <= 0.0
        if not (in_doubt or to_check or self._rival is not None) or not self._due():
            return
        self._checks_in = self._checks_in[to_check:]
        here = self._search.near(pose, *self._scan, reach=0.3, turn=np.radians(6.0))
        places = self._search.anywhere(*self._scan)
        better = [
            place for place in places
            if place.fit > s.clearly_better * here.fit and not place.is_near(here.pose, 0.5, 0.2)
        ]  # fmt: skip
        rival, self._rival = self._rival, None
        if not better:
            if not places and not here.agreement >= NOWHERE:
                self._watch.begin(t, "lost", "the scan fits nowhere on the map")
            elif self._watch.state == "doubtful":
                self._watch.reason += "; no other place fits better: the map has changed there"
            return
        times = better[0].fit / max(here.fit, 0.01)
        reason = f"the scan fits {times:.1f} times better at {better[0]}"
        step = np.zeros(3) if rival is None else relative(self._odometry, rival.odometry)
        if rival is not None and np.hypot(step[0], step[1]) < 0.5 * LOOK_AGAIN and times <= SURELY_BETTER:
            self._rival = rival
        elif times > SURELY_BETTER or (
            rival is not None and any(p.is_near(compose(rival.pose, step), 1.0, np.radians(20.0)) for p in better)
        ):
            self._watch.begin(t, "lost", reason)
            self._checks_in = list(CHECKS)
            self._add([place.pose for place in better], max(share, LEAST_INJECTED))
        else:
            self._rival = Rival(better[0].pose, self._odometry, f"{reason}; a look after {LOOK_AGAIN:.0f} m will tell")

    def _due(self) -> bool:
        """Tell whether the map may be searched again: that takes longer than a scan."""
        due = self._way_since_look >= LOOK_AGAIN or self._last_t - self._looked_at >= LOOK_AGAIN_AFTER
        if due:
            self._way_since_look, self._looked_at = 0.0, self._last_t
        return due

    def _told(self, clusters: list[Cluster], agreement: float, sample_size: float, fault: str) -> Estimate:
        winner = clusters[0]
        self._estimate = Estimate(
            t=self._last_t, pose=winner.pose, covariance=winner.covariance + self._map_covariance,
            state=self._watch.state, reason=fault or self._watch.reason, agreement=agreement, clusters=clusters,
            particles=len(self.particles), effective_sample_size=sample_size,
            drift=self._drift.update(self._last_t, winner.pose, self._odometry),
        )  # fmt: skip
        return self._estimate

    def _resample(self, labels: NDArray[np.int64], clusters: list[Cluster]) -> None:
        """Draw the particles anew, as many as the belief needs, and blur them a little.

        The blur, a small share of their cluster's own spread, sets the copies apart (the regularised particle filter
        of Musso, Oudjane and Le Gland, 2001).
        """
        s = self._settings
        drawn = low_variance_sample(self.weights, len(self.weights), self._rng)
        bound = particles_needed(self.particles, drawn, s.count_error)
        count = int(min(max(bound, s.least_particles * len(clusters)), s.most_particles))
        chosen = low_variance_sample(self.weights, count, self._rng)
        spreads = BLUR * np.array([np.sqrt(np.diagonal(cluster.covariance)) for cluster in clusters])
        normals = self._rng.standard_normal((count, 3))
        self.particles = blurred(self.particles, chosen, spreads, labels, normals)
        self.weights = np.full(count, 1.0 / count)
