-- A door that stands in no list of keys is told by its sort, and not by a sentence alone. What surveys
-- kept before is read as well as it can be; the next one says more.
UPDATE surveys SET report = jsonb_set(report, '{doors}', (
	SELECT coalesce(jsonb_agg(jsonb_build_object(
		'sort', CASE WHEN d ~* '^authorizedkeyscommand ' THEN 'key-command'
			WHEN d ~* '^trustedusercakeys ' THEN 'trusted-authorities' ELSE 'authority' END,
		'value', CASE WHEN d ~* '^(authorizedkeyscommand|trustedusercakeys) '
			THEN regexp_replace(d, '^\S+ (.*?): .*$', '\1') ELSE '' END,
		'place', CASE WHEN d ~ '^\S+ line \d+: ' THEN regexp_replace(d, '^(\S+) line (\d+): .*$', '\1:\2') ELSE '' END,
		'text', d)), '[]')
	FROM jsonb_array_elements_text(report->'doors') d))
WHERE jsonb_typeof(report->'doors') = 'array' AND jsonb_typeof(report->'doors'->0) = 'string';
