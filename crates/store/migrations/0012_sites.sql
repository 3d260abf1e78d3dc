-- A site that is archived stays as it is: nothing is played there, and no page view is taken.
ALTER TABLE site ADD COLUMN archived_at timestamptz;
-- Names in addresses are small letters, digits and hyphens, and none is an address of the installation.
UPDATE site SET slug = 'site-' || id WHERE slug !~ '^[a-z0-9]+(-[a-z0-9]+)*$' OR length(slug) > 40 OR slug IN (
    'alerts', 'api', 'beacons', 'confirm', 'goals', 'har', 'healthz', 'journeys', 'me', 'metrics', 'problems', 'reports',
    'runs', 'setup', 'sign-in', 'sign-out', 'static', 'visitors', 'welcome', 'snippet');
