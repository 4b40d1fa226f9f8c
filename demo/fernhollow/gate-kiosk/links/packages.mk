# The packages of {{ project }}{% if target %} for {{ target }}{% endif %}, as make wants them.
{% for package in packages %}
{% if "run" in package.purposes %}
# {{ package.name }} {{ package.version }}
PACKAGE_INCLUDES += {{ package.exposes.include | default([]) | join(" ") }}
PACKAGE_SOURCES += {{ package.exposes.source | default([]) | join(" ") }}
{% endif %}
{% endfor %}
