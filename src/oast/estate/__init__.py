"""What the engineer wrote: settings, inventory, selectors, values, secrets and sources."""

from __future__ import annotations

from typing import TYPE_CHECKING

from oast.lazy_exports import lazy_exports

if TYPE_CHECKING:
    from oast.estate.connections import (
        ConnectionSettings as ConnectionSettings,
        JumpHost as JumpHost,
        SettingOrigin as SettingOrigin,
    )
    from oast.estate.encrypted_file import (
        SECRET_NAME as SECRET_NAME,
        EncryptedFile as EncryptedFile,
        EncryptedSecret as EncryptedSecret,
        digest_in as digest_in,
    )
    from oast.estate.estate import (
        Estate as Estate,
        Simulated as Simulated,
        find as find,
        load_estate as load_estate,
        read_estate as read_estate,
        secrets_of as secrets_of,
        simulated_at as simulated_at,
    )
    from oast.estate.expressions import (
        evaluated as evaluated,
        fill_placeholders as fill_placeholders,
        stays_within as stays_within,
        template_environment as template_environment,
    )
    from oast.estate.filters import RAW_BEGINS as RAW_BEGINS, RAW_ENDS as RAW_ENDS
    from oast.estate.inventory import (
        DEVICE_NAME as DEVICE_NAME,
        Device as Device,
        device_of as device_of,
        read_inventory as read_inventory,
        row_of as row_of,
    )
    from oast.estate.inventory_file import (
        inventory_text as inventory_text,
        read_sourced_devices as read_sourced_devices,
    )
    from oast.estate.jinja_errors import (
        BEYOND as BEYOND,
        EmptyValueError as EmptyValueError,
        JinjaErrorText as JinjaErrorText,
        MissingError as MissingError,
        beyond as beyond,
        describe_jinja_error as describe_jinja_error,
        missing_path as missing_path,
        spelling_of as spelling_of,
        syntax as syntax,
        unknown_words as unknown_words,
    )
    from oast.estate.management import ManagementAccess as ManagementAccess
    from oast.estate.named_entries import read_entries as read_entries
    from oast.estate.onboarded_file import (
        ATTRIBUTE as ATTRIBUTE,
        EXPECTED as EXPECTED,
        ONBOARDED_FILE as ONBOARDED_FILE,
        is_expected as is_expected,
        put_onboarded as put_onboarded,
        remove_onboarded as remove_onboarded,
    )
    from oast.estate.onboarding_settings import OnboardingSettings as OnboardingSettings
    from oast.estate.permissions import check_owned as check_owned
    from oast.estate.provenance import (
        Explained as Explained,
        Origin as Origin,
        describe_value as describe_value,
        explain as explain,
        masked as masked,
    )
    from oast.estate.publish_settings import PublishSettings as PublishSettings
    from oast.estate.schedule_settings import (
        BACKUP as BACKUP,
        COMMAND as COMMAND,
        DRIFT as DRIFT,
        REFRESH as REFRESH,
        SYSLOG as SYSLOG,
        SYSLOG_PORTS as SYSLOG_PORTS,
        JobSettings as JobSettings,
        TargetSettings as TargetSettings,
        WatchSettings as WatchSettings,
    )
    from oast.estate.secret_text import plain_text as plain_text
    from oast.estate.secrets import Ask as Ask, Secrets as Secrets, fingerprints_of as fingerprints_of
    from oast.estate.selectors import (
        Selector as Selector,
        SelectorParser as SelectorParser,
        error_at as error_at,
        parse_selector as parse_selector,
    )
    from oast.estate.settings import (
        ENCRYPTED as ENCRYPTED,
        MASKED as MASKED,
        SETTINGS_FILE as SETTINGS_FILE,
        STOP as STOP,
        WAVE as WAVE,
        AntiAffinity as AntiAffinity,
        BatchSize as BatchSize,
        DeliverySettings as DeliverySettings,
        LimitSettings as LimitSettings,
        Settings as Settings,
        read_settings as read_settings,
    )
    from oast.estate.source_settings import (
        CSV as CSV,
        JSON as JSON,
        ZONE as ZONE,
        Mapped as Mapped,
        SourceSettings as SourceSettings,
    )
    from oast.estate.template_limits import join_limited as join_limited, rendering as rendering
    from oast.estate.unread_files import find_unread_files as find_unread_files
    from oast.estate.unused_values import (
        find_unused_values as find_unused_values,
        words_used as words_used,
    )
    from oast.estate.values import Values as Values
    from oast.estate.values_file import (
        VALUES_FILE as VALUES_FILE,
        ReadValue as ReadValue,
        save_values as save_values,
    )
    from oast.estate.yaml_text import (
        YamlList as YamlList,
        YamlMap as YamlMap,
        parse_yaml as parse_yaml,
        read_yaml_map as read_yaml_map,
        yaml_file as yaml_file,
        yaml_files as yaml_files,
    )

__getattr__, __dir__ = lazy_exports(
    __name__,
    {
        "connections": ("ConnectionSettings", "JumpHost", "SettingOrigin"),
        "encrypted_file": ("EncryptedFile", "EncryptedSecret", "SECRET_NAME", "digest_in"),
        "estate": ("Estate", "Simulated", "find", "load_estate", "read_estate", "secrets_of", "simulated_at"),
        "expressions": ("evaluated", "fill_placeholders", "stays_within", "template_environment"),
        "inventory": ("DEVICE_NAME", "Device", "device_of", "read_inventory", "row_of"),
        "inventory_file": ("inventory_text", "read_sourced_devices"),
        "filters": ("RAW_BEGINS", "RAW_ENDS"),
        "jinja_errors": (
            "EmptyValueError",
            "BEYOND",
            "JinjaErrorText",
            "MissingError",
            "beyond",
            "describe_jinja_error",
            "missing_path",
            "spelling_of",
            "syntax",
            "unknown_words",
        ),
        "management": ("ManagementAccess",),
        "named_entries": ("read_entries",),
        "onboarded_file": (
            "ATTRIBUTE",
            "EXPECTED",
            "ONBOARDED_FILE",
            "is_expected",
            "put_onboarded",
            "remove_onboarded",
        ),
        "onboarding_settings": ("OnboardingSettings",),
        "permissions": ("check_owned",),
        "provenance": ("Explained", "Origin", "describe_value", "explain", "masked"),
        "publish_settings": ("PublishSettings",),
        "schedule_settings": (
            "BACKUP",
            "COMMAND",
            "DRIFT",
            "JobSettings",
            "REFRESH",
            "SYSLOG",
            "SYSLOG_PORTS",
            "TargetSettings",
            "WatchSettings",
        ),
        "secret_text": ("plain_text",),
        "secrets": ("Ask", "Secrets", "fingerprints_of"),
        "selectors": ("Selector", "SelectorParser", "error_at", "parse_selector"),
        "settings": (
            "AntiAffinity",
            "BatchSize",
            "DeliverySettings",
            "ENCRYPTED",
            "LimitSettings",
            "MASKED",
            "SETTINGS_FILE",
            "STOP",
            "Settings",
            "WAVE",
            "read_settings",
        ),
        "source_settings": ("CSV", "JSON", "Mapped", "SourceSettings", "ZONE"),
        "template_limits": ("join_limited", "rendering"),
        "unread_files": ("find_unread_files",),
        "unused_values": ("find_unused_values", "words_used"),
        "values": ("Values",),
        "values_file": ("ReadValue", "VALUES_FILE", "save_values"),
        "yaml_text": ("YamlList", "YamlMap", "parse_yaml", "read_yaml_map", "yaml_file", "yaml_files"),
    },
)
