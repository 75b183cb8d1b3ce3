"""The particle filter: many guesses of the pose, moved by the odometry and weighed by the scan."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.geometry import arc, arc_velocity, compose, relative
from vinecompass.grids import Grid, MapRays
from vinecompass.localization.clusters import Cluster, whole_cloud
from vinecompass.localization.drift import DriftFollower
from vinecompass.localization.estimate import Estimate, Snapshot
from vinecompass.localization.likelihood_averages import LikelihoodAverages
from vinecompass.localization.lookout import SURELY_BETTER, Lookout
from vinecompass.localization.measurement_model import LikelihoodFieldModel, choose_beams, measurement_model
from vinecompass.localization.motion_model import MotionNoise, sample_increments, sample_velocities
from vinecompass.localization.open_direction import OpenDirection, spread_along
from vinecompass.localization.particle_cloud import WORN, ParticleCloud
from vinecompass.localization.place_proof import PlaceProof
from vinecompass.localization.place_search import Place, PlaceSearch
from vinecompass.localization.scan_agreement import ScanJudge, agreeing_share
from vinecompass.localization.second_opinion import SecondOpinion, second_opinion
from vinecompass.localization.state import StateWatch
from vinecompass.localization.telling_beams import evidence_between
from vinecompass.localization.telling_drive import TellingDrive, telling_drive
from vinecompass.odometry import BodyVelocity, SweepMotion, returned_beams
from vinecompass.robot import Lidar, Robot
from vinecompass.runs import Scan
from vinecompass.settings import LocalizationSettings

__all__ = ["ParticleLocalizer"]

FloatArray = NDArray[np.float64]
FEWEST_BEAMS = 8
"""A scan of which fewer return says nothing."""
JUDGED_BEAMS = 150
"""About so many beams of each scan are compared with the map one by one."""
TRUST_BETWEEN, MOST_COMPARED = 0.1, 16
"""Share of what the telling beams of a scan say for one cluster of particles against another that counts, and how many
clusters are compared, the heaviest ones."""
NEWS, NEWS_TURN, OLD_NEWS = 0.05, np.radians(3.0), 0.03
"""A scan taken after so many metres or radians of motion is new. One from standstill repeats the errors of the last,
as it sees the same walls from the same place, and counts this much."""
GIVEN = 3.0
"""Standard deviations of the initial pose within which it is not called wrong."""
DOUBT_OF_GIVEN = 0.1
"""Weight that places which fit clearly better than the initial pose start with."""
LEAST_INJECTED = 0.2
"""Share of the weight that places found elsewhere get at least."""
SHARE_OF_OTHERS = 0.3
"""Weight that places get which explain what was seen as well, and which the particles have lost sight of."""
JUMP = 1.5
"""How many times faster than the robot can go the odometry may seem."""


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
    second_opinion : SecondOpinion or None
        On the initial pose, by the first scan that says anything.
    rays : MapRays
        The map, made ready for beams to be cast into it.

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
    >>> from vinecompass.odometry import SweepMotion
    >>> robot = read_robot(demo_file("robot.toml"))
    >>> room = grid_from_drawing("#####\\n#...#\\n#...#\\n#...#\\n#####", 1.0)
    >>> localizer = ParticleLocalizer(room, robot, [2.5, 2.5, 0.0], seed=1)
    >>> blind = Scan(0.0, np.full(robot.scanner.beams, np.nan, np.float32))
    >>> still = SweepMotion(0.0, np.zeros(3), np.zeros((robot.scanner.beams, 3)))
    >>> localizer.update(blind, still).state
    'settling'
    """

    @checked
    def __init__(
        self,
        grid: Grid,
        robot: Robot,
        initial_pose: ArrayLike | None = None,
        *,
        settings: LocalizationSettings | None = None,
        seed: int,
    ) -> None:
        if not np.any(grid.occupied):
            raise InputError("the map has no occupied cell", expected="a map to compare scans with")
        s = self._settings = settings or LocalizationSettings()
        self._grid = grid
        self._robot = robot
        self._noise = MotionNoise.of(s)
        self._rng = np.random.default_rng(seed)
        self.rays = MapRays(grid)
        self._model = measurement_model(grid, self.rays, robot, s)
        self._field_model = (
            self._model
            if isinstance(self._model, LikelihoodFieldModel)
            else measurement_model(grid, self.rays, robot, s.model_copy(update={"measurement": "field"}))
        )
        self._judge = ScanJudge(grid, self.rays, near=3.0 * s.field_spread)
        self._search = PlaceSearch(grid, self.rays, self._judge)
        self._averages = LikelihoodAverages()
        self._proof = PlaceProof(self._search, self.rays, needed=initial_pose is None)
        self._drift = DriftFollower()
        self._open = OpenDirection()
        self._wall_covariance = np.diag([s.map_spread**2, s.map_spread**2, np.radians(s.map_spread_deg) ** 2])
        self._spread = np.array([s.start_spread, s.start_spread, np.radians(s.start_spread_deg)])
        self._initial_pose: FloatArray | None = None
        if initial_pose is not None:
            self._initial_pose = self._grid.pose_on_map(initial_pose, "initial_pose")
            particles = self._about_initial_pose(s.most_particles)
            self._watch = StateWatch(s, "settling", "begun from the initial pose given")
        else:
            particles = self._over_free_floor(s.least_particles)
            self._watch = StateWatch(s, "searching", "no scan yet")
        self._cloud = ParticleCloud(particles, s, self._rng)
        self._lookout = Lookout(self._search, clearly_better=s.clearly_better)
        self.second_opinion: SecondOpinion | None = None
        self._started = False
        self._last_t = self._seen_at = -np.inf
        self._last_lidar = ""
        self._last_odometry: SweepMotion | None = None
        self._odometry = np.zeros(3)
        self._last_step = np.zeros(3), 0.0
        self._scan = np.zeros((0, 2)), np.zeros((0, 2))
        self._estimate: Estimate | None = None

    def update(self, scan: Scan, odometry: SweepMotion | BodyVelocity) -> Estimate:
        """Move the particles by the odometry since the last scan, weigh them by this one, and resample if needed.

        Raises
        ------
        InputError
            The robot has no such lidar, or the scan has another number of beams than it.
        """
        lidar = self._robot.find_lidar(scan.lidar)
        if len(scan.ranges) != lidar.beams:
            raise InputError(
                "is no scan of this lidar",
                key="ranges",
                value=f"{len(scan.ranges)} beams",
                expected=f"{lidar.beams} beams",
            )
        same_time = scan.t == self._last_t and scan.lidar != self._last_lidar
        if self._estimate is not None and not (scan.t > self._last_t or same_time):
            reason = f"a scan stamped {scan.t:.3f} s came after one of {self._last_t:.3f} s and was left out"
            return self._told(self._estimate.clusters, float("nan"), self._cloud.sample_size, reason)
        duration = scan.t - self._last_t if self._estimate is not None else 0.0
        step, sweep, fault = self._move(odometry, duration, lidar)
        self._last_t, self._last_lidar = scan.t, scan.lidar
        origins, ends = returned_beams(scan.ranges, lidar, sweep)
        self._scan = origins, ends
        seen = len(ends) >= FEWEST_BEAMS
        if seen or self._seen_at == -np.inf:
            self._seen_at = scan.t
        way = float(np.hypot(step[0], step[1]))
        self._lookout.drove(way)
        self._proof.see(way, self._odometry, origins, ends)
        if seen and not self._started:
            self._start(origins, ends)
        if not self._started:
            clusters = [whole_cloud(self.particles, self.weights)]
            if not seen:
                self._follow(clusters, float("nan"), fault, fallen=False)
            return self._told(clusters, float("nan"), self._cloud.sample_size, fault)
        chosen = choose_beams(ends, self._settings.beams)
        few = origins[chosen], ends[chosen]
        if seen:
            news = way / NEWS + abs(float(step[2])) / NEWS_TURN if self._estimate is not None else 1.0
            self._weigh(*few, min(max(news, OLD_NEWS), 1.0))
        sample_size = self._cloud.sample_size
        clusters, labels = self._cloud.clusters()
        agreement = float("nan")
        if seen:
            every = -(-len(ends) // JUDGED_BEAMS)
            agreement = agreeing_share(self._judge.verdicts(clusters[0].pose, origins[::every], ends[::every]))
        share = self._fall_of_likelihood(clusters[0].pose, *few) if seen else 0.0
        drawn_together = clusters[0].wins and clusters[0].spread <= self._settings.settled_spread
        agrees = agreement >= self._settings.settled_agreement
        lost_sight_of = self._proof.try_on(clusters, self._odometry, ready=seen and drawn_together and agrees)
        self._follow(clusters, agreement, fault, fallen=share > 0.0)
        if sample_size < WORN * len(self.weights):
            self._cloud.resample(clusters, labels)
        if lost_sight_of:
            self._cloud.add_about(lost_sight_of, SHARE_OF_OTHERS)
        if seen:
            self._look_elsewhere(clusters[0].pose, agreement, share)
        return self._told(clusters, agreement, sample_size, fault)

    @property
    def particles(self) -> FloatArray:
        """The particles ``(N, 3)`` in the site frame."""
        return self._cloud.particles

    @property
    def weights(self) -> FloatArray:
        """Their weights ``(N,)``, which sum to 1."""
        return self._cloud.weights

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
        return telling_drive(self.rays, self._robot, clusters[0].pose, clusters[1].pose)

    def _about_initial_pose(self, count: int) -> FloatArray:
        """Draw particles about the initial pose, none of them inside a wall."""
        assert self._initial_pose is not None
        drawn = self._initial_pose + self._spread * self._rng.standard_normal((count, 3))
        standing = self.rays.clearance_at(drawn[:, :2]) > 0.0
        if not np.any(standing):
            x, y = self._initial_pose[:2]
            raise InputError(
                "lies inside a wall, and no free floor near",
                key="initial_pose",
                value=[round(float(x), 3), round(float(y), 3)],
                expected="x, y on floor that is free in the map",
            )
        good = drawn[standing]
        return good[np.arange(count) % len(good)]

    def _over_free_floor(self, count: int) -> FloatArray:
        cells = np.argwhere(self._grid.free)
        if len(cells) == 0:
            raise InputError("the map has no free cell", expected="a map with floor to be on")
        chosen = cells[self._rng.integers(len(cells), size=count)]
        return np.column_stack([self._grid.points_of(chosen), self._rng.uniform(-np.pi, np.pi, count)])

    def _move(
        self, odometry: SweepMotion | BodyVelocity, duration: float, lidar: Lidar
    ) -> tuple[FloatArray, FloatArray, str]:
        """Move the particles. Returns the step made, the body's poses as each beam fired, and what was wrong."""
        if isinstance(odometry, BodyVelocity):
            velocity = odometry.vector
            if not np.all(np.isfinite(velocity)):
                return np.zeros(3), np.zeros((lidar.beams, 3)), "the velocity is not a number and was left out"
            step = arc(velocity, duration)
            self._odometry = compose(self._odometry, step)
            if duration > 0.0:
                self._cloud.particles = sample_velocities(
                    self.particles, velocity, duration, self._robot.drive, self._noise, self._rng
                )
            return step, arc(velocity, lidar.beam_delays), ""
        if not np.all(np.isfinite(odometry.pose)) or not np.all(np.isfinite(odometry.sweep)):
            return np.zeros(3), np.zeros((lidar.beams, 3)), "the odometry is not a number and was left out"
        before = self._last_odometry
        self._last_odometry = odometry
        if before is None:
            self._odometry = odometry.pose
            return np.zeros(3), odometry.sweep, ""
        step, told = relative(odometry.pose, before.pose), odometry.step_covariance(before)
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
        self._cloud.particles = sample_increments(self.particles, step, drive, self._noise, self._rng, told=told)
        return step, odometry.sweep, fault

    def _last_velocity(self) -> FloatArray:
        step, duration = self._last_step
        return arc_velocity(step) / duration if duration > 0.0 else np.zeros(3)

    def _start(self, origins: FloatArray, ends: FloatArray) -> None:
        """Draw the first particles: about the pose given and where the scan fits near it, or where it fits at all."""
        s = self._settings
        if self._initial_pose is None:
            if self._lookout.due(self._last_t):
                self._start_anywhere(self._search.anywhere(origins, ends))
            return
        self._started = True
        reach = GIVEN * self._spread
        opinion = self.second_opinion = second_opinion(
            self._search,
            self._initial_pose,
            origins,
            ends,
            reach=reach[0],
            turn=reach[2],
            clearly_better=s.clearly_better,
        )
        given = opinion.given.pose
        self._cloud.draw_half_about(given, self._open.look(self._field_model, given, origins, ends))
        if better := opinion.better:
            best = better[0]
            if best.fit > SURELY_BETTER * opinion.given.fit:
                self._cloud.add_about([best.pose], DOUBT_OF_GIVEN)
            else:
                self._lookout.suspect(best, self._odometry, opinion.warning)

    def _start_anywhere(self, places: list[Place]) -> None:
        if not places:
            self._watch.begin(self._last_t, "searching", "the scan fits nowhere on the map")
            return
        self._started = True
        self._cloud.draw_about([place.pose for place in places])
        self._lookout.found()
        reason = f"the scan fits at {places[0]}"
        if len(places) > 1:
            reason = f"the scan fits as well in {len(places)} places, as at {places[0]} and {places[1]}"
            drive = telling_drive(self.rays, self._robot, places[0].pose, places[1].pose)
            reason += f"; {drive}" if drive else "; no straight drive of 10 m would tell"
        self._watch.begin(self._last_t, "settling", reason)

    def _weigh(self, origins: FloatArray, ends: FloatArray, news: float) -> None:
        """Weigh the particles by the chosen beams of a scan, of which so much is new."""

        def evidence(clusters: list[Cluster]) -> FloatArray:
            found = [
                evidence_between(self.rays, clusters[0].pose, other.pose, origins, ends)
                for other in clusters[1:MOST_COMPARED]
            ]
            return TRUST_BETWEEN * news * np.array([0.0, *found])

        particles, line = self.particles, None
        fits = self._estimate is not None and self._estimate.agreement >= self._settings.settled_agreement
        if fits and not self._cloud.is_ambiguous:
            middle = whole_cloud(particles, self.weights).pose
            line = self._open.look(self._field_model, middle, *self._scan)
            if line is not None:
                # Side by side: along the line odometry alone tells, and noise would draw the cloud together somewhere.
                particles = spread_along(particles, np.broadcast_to(middle, particles.shape), line)
        gained = self._model.log_likelihoods(particles, origins, ends)
        self._cloud.weigh(gained * (self._settings.beam_trust * news), evidence, open_along=line)

    def _fall_of_likelihood(self, pose: FloatArray, origins: FloatArray, ends: FloatArray) -> float:
        """Return what share of the particles should be drawn elsewhere, by how likely scans were of late, 0 to 1."""
        # By the likelihood field, whichever the measurement model: it does not change with how far the walls are.
        total = self._field_model.log_likelihoods(pose[None], origins, ends)[0]
        return self._averages.update(float(np.exp(total / len(ends))), learn=self._watch.state == "tracking")

    def _follow(self, clusters: list[Cluster], agreement: float, fault: str, *, fallen: bool) -> None:
        """Let the state follow what came of the scan."""
        details = ""
        if agreement < self._settings.settled_agreement:
            worst = self._judge.judge(clusters[0].pose, *self._scan).disagreements[:2]
            details = ": " + ", ".join(str(one) for one in worst) if worst else ""
        if fault and self._watch.state == "tracking":
            self._watch.begin(self._last_t, "doubtful", fault)
        else:
            self._watch.update(
                self._last_t,
                clusters,
                agreement,
                blind_for=self._last_t - self._seen_at,
                fallen=fallen,
                rival=self._lookout.suspicion or self._proof.others,
                details=details,
            )

    def _look_elsewhere(self, pose: FloatArray, agreement: float, share: float) -> None:
        """Look for where the scan fits better than where the robot is believed to be, if that is in doubt."""
        in_doubt = share > 0.0 or not agreement >= self._settings.doubt_agreement or self._watch.state == "lost"
        finding = self._lookout.look(self._last_t, pose, self._odometry, *self._scan, in_doubt=in_doubt)
        if finding is None:
            return
        if finding.believed:
            self._watch.begin(self._last_t, "lost", finding.reason)
            self._proof.begin_anew()
            self._cloud.add_about([place.pose for place in finding.believed], max(share, LEAST_INJECTED))
        elif finding.nowhere:
            self._watch.begin(self._last_t, "lost", "the scan fits nowhere on the map")
        elif not finding.reason and self._watch.state == "doubtful":
            self._watch.reason += "; no other place fits better: the map has changed there"

    def _told(self, clusters: list[Cluster], agreement: float, sample_size: float, fault: str) -> Estimate:
        winner, doubt = clusters[0], self._grid.doubt
        map_covariance = self._wall_covariance
        if doubt is not None:
            map_covariance = map_covariance + doubt.at(winner.pose[:2])
        self._estimate = Estimate(
            t=self._last_t,
            pose=winner.pose,
            covariance=winner.covariance + map_covariance,
            state=self._watch.state,
            reason=fault or self._watch.reason,
            agreement=agreement,
            clusters=clusters,
            particles=len(self.particles),
            effective_sample_size=sample_size,
            drift=self._drift.update(self._last_t, winner.pose, self._odometry),
            has_rival=bool(self._lookout.suspicion),
        )
        return self._estimate
