-- +goose Up
-- How tags are mapped to labels is a part of the estate.
INSERT INTO object (list, name, position, body)
SELECT 'mappings', 'tags', 0, CAST(json_object('name', 'tags', 'rules', json_group_array(json(rule))) AS BLOB)
FROM (SELECT CAST(body AS TEXT) AS rule FROM mapping ORDER BY position)
HAVING count(*) > 0;
DROP TABLE mapping;

-- +goose Down
CREATE TABLE mapping (
    position INTEGER PRIMARY KEY,
    body     BLOB NOT NULL -- JSON
) STRICT;
INSERT INTO mapping (position, body)
SELECT row_number() OVER (ORDER BY object.position, rule.key) - 1, CAST(rule.value AS BLOB)
FROM object, json_each(CAST(object.body AS TEXT), '$.rules') AS rule WHERE object.list = 'mappings';
DELETE FROM object WHERE list = 'mappings';
