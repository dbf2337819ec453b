-- Jobs whose repair is to be asked after: the newest answers on the day and on how it went are found without reading all answers.
-- depends: 0014.revisions

CREATE INDEX answer_follow_up ON answer (workshop_id, job_id, field, seq DESC) WHERE field IN ('follow_up', 'follow_up_result');
