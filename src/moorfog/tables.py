"""Every table there is: whoever needs all of them, as a migration does, imports this."""

from moorfog.platform.db import tables as clock
from moorfog.platform.jobs import tables as jobs
from moorfog.platform.log import summaries
from moorfog.platform.log import tables as log
from moorfog.rooms.accounts import tables as accounts
from moorfog.rooms.bench import tables as bench
from moorfog.rooms.crews import tables as crews
from moorfog.rooms.due import tables as due
from moorfog.rooms.facepieces import tables as facepieces
from moorfog.rooms.kit import tables as kit
from moorfog.rooms.mail import tables as mail
from moorfog.rooms.papers import tables as papers
from moorfog.rooms.people import tables as people
from moorfog.rooms.proof import tables as proof
from moorfog.rooms.setup import tables as setup
from moorfog.rooms.sites import tables as sites
from moorfog.rooms.wear import tables as wear

ALL = (
    *(clock, jobs, log, summaries),
    *(accounts, sites, facepieces, people, kit, wear, bench, papers, crews, due, mail, proof),
    setup,
)
"""The modules that hold them."""
