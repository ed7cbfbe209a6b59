-- How far event time had come at the stations that remember when the batch ended, as JSON.

alter table batch add column marks text;
